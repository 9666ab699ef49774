//! Engines without root, as measured (docs/facts/runtimes.md section 7): who is who, and what that lets them do.
#![expect(clippy::unwrap_used, reason = "a test that lacks its own scene has failed")]

mod fixtures;

use mivask_core::question::{ask, facts_at};
use mivask_core::stage::Stage;
use mivask_core::trace::Check;
use mivask_core::{Outcome, parse_act};

use fixtures::{identity, stage};

const HOST: &str = "
host:
  started-by: WHO
  accounts: { passwd: \"worker:x:1500:1500::/:\\n\", group: \"worker:x:1500:\\ncrew:x:1600:worker\\n\" }
  subuid: \"worker:200000:65536\\n\"
  subgid: \"worker:200000:65536\\n\"
  tree:
  - { path: /, kind: dir, owner: '0:0', mode: 0755 }
  - { path: /srv, kind: dir, owner: '0:0', mode: 0755 }
  - { path: /srv/mine, kind: dir, owner: '1500:1500', mode: 0755 }
  - { path: /srv/sub, kind: dir, owner: '200404:201000', mode: 0750 }
  - { path: /srv/crew, kind: dir, owner: '0:1600', mode: 2770 }
  - { path: /srv/others, kind: dir, owner: '1001:1001', mode: 0777 }
  - { path: /srv/others/f, owner: '1001:1001', mode: 0600 }
  - { path: /srv/shut, kind: dir, owner: '0:0', mode: 0700 }
  - { path: /srv/shut/in, kind: dir, owner: '1500:1500', mode: 0755 }
";

const IMAGE: &str = "
    user: null
    accounts:
      passwd: \"root:x:0:0::/:\\napp:x:405:1001::/:\\nalice:x:1000:1000::/:\\n\"
      group: \"root:x:0:\\nwheel:x:10:root,alice\\napp:x:1001:\\nfar:x:70000:alice\\n\"
    tree:
    - { path: /, kind: dir, owner: '0:0', mode: 0755 }
    - { path: /data, kind: dir, owner: '405:1001', mode: 0750 }
    - { path: /data/a, owner: '405:1001', mode: 0600 }
";

/// A service `c` of an engine that `who` starts.
fn by(who: &str, runtime: &str, service: &str) -> Stage {
    let host = HOST.replace("WHO", who);
    let scene =
        format!("scene: 1\nruntime: {runtime}\nworkloads: [compose.yaml]\nimages:\n  i:{IMAGE}{host}");
    let compose = format!("services:\n  c: {{ image: i, {service} }}\nvolumes: {{ vol: }}\n");
    stage("s.yaml", &[("s.yaml", &scene), ("compose.yaml", &compose)])
}

fn podman(service: &str) -> Stage {
    by("worker", "podman", service)
}

/// Why `c` never runs.
fn refusal(stage: &Stage) -> String {
    stage.actors[0].refusal().map_or_else(|| "it starts".to_owned(), |refusal| refusal.reason.clone())
}

fn owner(stage: &Stage, path: &str) -> String {
    let facts = facts_at(stage, &stage.actors[0], path.as_bytes()).unwrap();
    let disk = facts.disk.map_or_else(String::new, |disk| format!(", {disk} on the host"));
    let shown = |id: Option<u32>| id.map_or_else(|| "?".to_owned(), |id| id.to_string());
    let (uid, gid) = (facts.uid.map(|uid| uid.raw()), facts.gid.map(|gid| gid.raw()));
    format!("{}:{}{disk}", shown(uid), shown(gid))
}

fn outcome(stage: &Stage, act: &str) -> Outcome {
    ask(stage, &parse_act(act).unwrap()).unwrap().outcome
}

macro_rules! people {
    ($($name:ident: $service:literal => $expected:literal;)+) => {$(
        #[test]
        fn $name() {
            assert_eq!(identity(&podman($service)), $expected);
        }
    )+};
}

people! {
    root_inside_is_who_starts_it: "" => "0:0 10";
    nobody_named_under_keep_id: "userns_mode: keep-id" => "1500:1500 1500";
    or_another_number: "userns_mode: 'keep-id:uid=405,gid=1001'" => "405:1001 1001";
    the_group_stays_without_gid: "userns_mode: 'keep-id:uid=405'" => "405:1500 1500";
    somebody_named_has_the_group_too: "userns_mode: keep-id, user: app" => "405:1001 1001,1500";
    and_with_a_group: "userns_mode: keep-id, user: 'app:wheel'" => "405:10 10,1500";
    nomap_adds_group_0: "userns_mode: nomap, user: app" => "405:1001 0,1001";
    memberships_that_are_not_mapped_are_passed_over: "user: alice" => "1000:1000 10,1000";
    groups_added_that_are_not_mapped: "group_add: [70000]" => "refused: 0:0 or one of its groups has no mapping in its user namespace (users 0 from 1500, 1-65536 from 200000, groups alike)";
    kept_groups_replace_the_images: "user: alice, group_add: [keep-groups]" => "1000:1000 0";
    keep_id_zero: "userns_mode: 'keep-id:uid=0'" => "refused: `keep-id` makes an empty line of the map for the id 0 (EINVAL, Podman 4.3)";
    no_mode: "userns_mode: bogus" => "refused: `bogus` is not a user namespace that an engine knows: host, keep-id, nomap, auto, ns:PATH and container:NAME are";
    a_user_beyond_the_range: "user: '70000:0'" => "refused: 70000:0 or one of its groups has no mapping in its user namespace (users 0 from 1500, 1-65536 from 200000, groups alike)";
}

macro_rules! owners {
    ($($name:ident: $service:literal at $path:literal => $expected:literal;)+) => {$(
        #[test]
        fn $name() {
            assert_eq!(owner(&podman($service), $path), $expected);
        }
    )+};
}

owners! {
    the_starters_own_is_roots: "volumes: ['/srv/mine:/in']" at "/in" => "0:0, 1500:1500 on the host";
    and_its_own_under_keep_id: "userns_mode: keep-id, volumes: ['/srv/mine:/in']" at "/in" => "1500:1500, 1500:1500 on the host";
    and_nobodys_under_nomap: "userns_mode: nomap, volumes: ['/srv/mine:/in']" at "/in" => "65534:65534, 1500:1500 on the host";
    subordinate_ids_are_shifted_by_one: "volumes: ['/srv/sub:/in']" at "/in" => "405:1001, 200404:201000 on the host";
    the_image_is_as_it_is: "userns_mode: keep-id" at "/data" => "405:1001";
    a_volume_has_ids_of_the_host: "volumes: ['vol:/data']" at "/data/a" => "405:1001, 200404:201000 on the host";
    filled_by_the_starter: "userns_mode: 'keep-id:uid=405,gid=1001', volumes: ['vol:/data']" at "/data/a" => "405:1001, 1500:1500 on the host";
    taken_over: "user: app, volumes: ['/srv/mine:/in:U']" at "/in" => "405:1001, 200404:201000 on the host";
    a_volume_taken_over_has_the_images_root: "user: alice, volumes: ['vol:/data:U']" at "/data" => "405:1001, 200404:201000 on the host";
}

macro_rules! refused {
    ($($name:ident: $service:literal => $expected:literal;)+) => {$(
        #[test]
        fn $name() {
            assert_eq!(refusal(&podman($service)), $expected);
        }
    )+};
}

refused! {
    behind_a_closed_directory: "volumes: ['/srv/shut/in:/in']" => "worker may not get to /srv/shut/in on the host: EACCES";
    not_behind_one_that_the_group_opens: "volumes: ['/srv/crew:/in']" => "it starts";
    what_is_not_mapped_is_not_given_away: "volumes: ['/srv/others:/in:U']" => "`U` gives /srv/others to the process, and worker may not take it from 1001:1001: EPERM";
    no_id_maps_on_mounts: "userns_mode: keep-id, volumes: ['/srv/mine:/in:idmap']" => "`idmap` is refused to an engine without root (mount_setattr: EPERM)";
    no_overlay_without_the_starter: "userns_mode: nomap, volumes: ['/srv/mine:/in:O']" => "`O` lays an overlay in worker's store, which a namespace without worker may not enter (EACCES)";
    an_overlay_with_the_starter: "userns_mode: keep-id, volumes: ['/srv/mine:/in:O']" => "it starts";
}

#[test]
fn kept_groups_count_though_nobody_has_their_number() {
    let stage = podman("user: alice, group_add: [keep-groups], volumes: ['/srv/crew:/in']");
    assert_eq!(outcome(&stage, "c creates /in/x"), Outcome::Allowed);
    let without = podman("user: alice, volumes: ['/srv/crew:/in']");
    assert!(matches!(outcome(&without, "c creates /in/x"), Outcome::Denied(_)));
}

#[test]
fn capabilities_do_not_count_for_what_is_not_mapped() {
    let stage = podman("volumes: ['/srv/others:/in']");
    let answer = ask(&stage, &parse_act("c reads /in/f").unwrap()).unwrap();
    let step = answer.deciding().unwrap();
    assert_eq!(step.check, Check::UnmappedOwner);
    assert_eq!(
        step.fact,
        "-rw------- 0600 65534:65534 (1001:1001 of the host are not mapped): other has ---, needed r--; nobody's here, so no capability counts"
    );
}

#[test]
fn a_range_that_is_picked_is_not_needed_where_no_file_has_its_ids() {
    let own = podman("userns_mode: auto, user: app, volumes: ['vol:/data', '/srv/mine:/in']");
    assert_eq!(outcome(&own, "c writes /data/a"), Outcome::Allowed);
    assert!(matches!(outcome(&own, "c creates /in/x"), Outcome::Denied(_)));
    // 200404 may be one of it.
    let shared = podman("userns_mode: auto, user: app, volumes: ['/srv/sub:/in']");
    assert_eq!(outcome(&shared, "c creates /in/x"), Outcome::Depends);
    assert_eq!(owner(&shared, "/in"), "?:?, 200404:201000 on the host");
}

#[test]
fn two_ranges_that_are_picked_are_never_the_same() {
    let scene = format!(
        "scene: 1\nruntime: podman\nworkloads: [compose.yaml]\nimages:\n  i:{IMAGE}{}",
        HOST.replace("WHO", "worker")
    );
    let service = "image: i, user: app, userns_mode: auto, volumes: ['vol:/data']";
    let joined = service.replace("auto", "'container:a'");
    let compose = format!(
        "services:\n  a: {{ {service} }}\n  b: {{ {service} }}\n  d: {{ {joined} }}\nvolumes: {{ vol: }}\n"
    );
    let stage = stage("s.yaml", &[("s.yaml", &scene), ("compose.yaml", &compose)]);
    assert_eq!(outcome(&stage, "a writes /data/a"), Outcome::Allowed);
    assert!(!matches!(outcome(&stage, "b writes /data/a"), Outcome::Allowed));
    // One that joins another has the same one.
    assert_eq!(outcome(&stage, "d writes /data/a"), Outcome::Allowed);
}

#[test]
fn who_starts_it_decides_whether_a_mode_is_taken() {
    let root = by("root", "podman", "userns_mode: keep-id");
    assert_eq!(refusal(&root), "`keep-id`: Podman takes it from an engine without root alone");
    let docker = by("worker", "docker", "userns_mode: keep-id");
    assert_eq!(refusal(&docker), "Docker knows no user namespace but `host` (Podman does: --runtime podman)");
}

#[test]
fn a_docker_without_root_has_the_starters_ids_and_its_rules() {
    let stage = by("worker", "docker", "user: app, volumes: ['/srv/mine:/in', 'vol:/data']");
    assert_eq!(owner(&stage, "/in"), "0:0, 1500:1500 on the host");
    assert_eq!(owner(&stage, "/data/a"), "405:1001, 200404:201000 on the host");
    let same = by("worker", "docker", "userns_mode: host, user: app, volumes: ['/srv/mine:/in']");
    assert_eq!(owner(&same, "/in"), "0:0, 1500:1500 on the host");
}

#[test]
fn a_container_may_have_the_namespace_of_another() {
    let scene = format!(
        "scene: 1\nruntime: podman\nworkloads: [compose.yaml]\nimages:\n  i:{IMAGE}{}",
        HOST.replace("WHO", "worker")
    );
    let compose = "services:\n  a: { image: i, userns_mode: keep-id }\n  c: { image: i, user: app, userns_mode: 'container:a', volumes: ['/srv/mine:/in'] }\n";
    let stage = stage("s.yaml", &[("s.yaml", &scene), ("compose.yaml", compose)]);
    let facts = facts_at(&stage, &stage.actors[1], b"/in").unwrap();
    assert_eq!(facts.uid.map(|uid| uid.raw()), Some(1500));
}

#[test]
fn a_docker_without_root_makes_a_missing_source_where_its_user_may() {
    let docker = |path: &str| by("worker", "docker", &format!("volumes: ['{path}:/in']"));
    assert_eq!(owner(&docker("/srv/mine/new"), "/in"), "0:0, 1500:1500 on the host");
    // The group of a set-group-id directory is not that of what an engine makes in it.
    assert_eq!(owner(&docker("/srv/crew/new"), "/in"), "0:0, 1500:1500 on the host");
    let refused = refusal(&docker("/srv/new"));
    assert_eq!(
        refused,
        "host path /srv/new: nothing is there, and the engine's user may not make it: EACCES"
    );
    let root = by("root", "docker", "volumes: ['/srv/crew/new:/in']");
    assert_eq!(owner(&root, "/in"), "0:0, 0:0 on the host");
}
