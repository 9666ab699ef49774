//! What Compose files become: forms, variables, merging, and what is said about mistakes.

#![expect(clippy::wildcard_enum_match_arm, reason = "what a test does not expect, it shows")]

mod fixtures;

use mivask_core::scene::{Container, Driver, Scene, VolumeKind, Who, Workload};

use fixtures::read;

/// The project of `compose.yaml` beside other files, and what was said.
fn project(text: &str, others: &[(&str, &str)]) -> (Workload, Vec<String>) {
    let mut files = vec![("p/compose.yaml", text)];
    files.extend(others);
    let (scene, diagnostics): (Scene, _) = read("p/compose.yaml", &files);
    let [workload] = scene.workloads.as_slice() else { panic!("{diagnostics:#?}") };
    (Workload::clone(workload), diagnostics)
}

fn container<'a>(workload: &'a Workload, name: &str) -> &'a Container {
    let found = workload.containers.iter().find(|container| container.name == name);
    found.unwrap_or_else(|| panic!("there is no container {name}"))
}

/// Each mount as `source at flags`.
fn mounts(workload: &Workload, name: &str) -> Vec<String> {
    let show = |mount: &mivask_core::scene::VolumeMount| {
        let volume = workload.volumes.iter().find(|volume| volume.name.value == mount.volume.value);
        let source = match volume.map(|volume| &volume.kind) {
            Some(VolumeKind::Bind { path, make_missing }) => {
                format!(
                    "{}{}",
                    String::from_utf8_lossy(path),
                    if *make_missing { "" } else { " (must exist)" }
                )
            }
            Some(VolumeKind::Named { .. }) => mount.volume.value.clone(),
            Some(VolumeKind::Anonymous) => "anonymous".to_owned(),
            Some(VolumeKind::Tmpfs(asked)) => format!("tmpfs {:?}", asked.mode.map(|mode| mode.to_string())),
            Some(VolumeKind::Image(name)) => format!("image {}", name.value),
            other => panic!("{other:?}"),
        };
        let more =
            [(mount.read_only, " ro"), (mount.no_copy, " nocopy"), (mount.sub_path.is_some(), " part")];
        let more: String = more.into_iter().filter(|(is, _)| *is).map(|(_, word)| word).collect();
        format!("{source} {}{more}", String::from_utf8_lossy(&mount.at.value))
    };
    container(workload, name).mounts.iter().map(show).collect()
}

fn user(workload: &Workload, name: &str) -> Option<String> {
    let Who::Plain(plain) = &container(workload, name).who else { panic!("a service") };
    plain.user.as_ref().map(|user| user.value.clone())
}

const FORMS: &str = "
services:
  a:
    image: i
    volumes:
    - data:/data
    - data:/again:ro,nocopy
    - ./in:/in
    - ../up:/up:ro
    - /srv/x:/x
    - /alone
    - { type: bind, source: ./long, target: /long, read_only: true }
    - { type: bind, source: /made, target: /made, bind: { create_host_path: true } }
    - { type: volume, source: data, target: /part, volume: { nocopy: true, subpath: x } }
    - { type: tmpfs, target: /t, tmpfs: { mode: 0750 } }
    - { type: image, source: other, target: /image }
    tmpfs: [/run, '/tmp/x:mode=700']
    secrets: [key]
    configs: [ { source: conf, target: /etc/conf } ]
  b: { image: i, volumes_from: ['a:ro'] }
volumes: { data: {} }
secrets: { key: { file: ./key } }
configs: { conf: { file: conf } }
";

#[test]
fn every_form_of_a_volume() {
    let (workload, diagnostics) = project(FORMS, &[]);
    assert_eq!(diagnostics, [] as [&str; 0]);
    let expected = [
        "data /data",
        "data /again ro nocopy",
        "/p/in /in",
        "/up /up ro",
        "/srv/x /x",
        "anonymous /alone",
        "/p/long (must exist) /long ro",
        "/made /made",
        "data /part nocopy part",
        "tmpfs Some(\"0750\") /t",
        "image other /image ro",
        "tmpfs None /run",
        "tmpfs Some(\"0700\") /tmp/x",
        "/p/key (must exist) /run/secrets/key ro",
        "/p/conf (must exist) /etc/conf ro",
    ];
    assert_eq!(mounts(&workload, "a"), expected);
    assert_eq!(mounts(&workload, "b").len(), 11, "everything under `volumes`");
    assert!(mounts(&workload, "b")[0].ends_with("/data ro"));
}

#[test]
fn drivers_of_volumes() {
    let text = "
services: { a: { image: i } }
volumes:
  plain:
  bound: { driver_opts: { type: none, o: 'bind,ro,noexec', device: /srv/x } }
  memory: { driver_opts: { type: tmpfs, device: tmpfs, o: 'size=9m,uid=405,mode=0700' } }
  share: { driver_opts: { type: nfs, o: 'addr=s,rw', device: ':/x' } }
  other: { driver: clouds }
  there: { external: true }
";
    let (workload, _) = project(text, &[]);
    let drivers = workload.volumes.iter().map(|volume| match &volume.kind {
        VolumeKind::Named { driver: Driver::Tmpfs(tmpfs), .. } => {
            format!("tmpfs {}:{} {}", tmpfs.uid, tmpfs.gid, tmpfs.mode)
        }
        VolumeKind::Named { driver: Driver::Nfs(_), .. } => "nfs".to_owned(),
        VolumeKind::Named { driver, external, flags, .. } => format!("{driver:?} {external} {flags}"),
        other => panic!("{other:?}"),
    });
    let expected = [
        "Local false rw",
        "Bind([47, 115, 114, 118, 47, 120]) false ro,noexec",
        "tmpfs 405:0 0700",
        "nfs",
        "Unknown(\"clouds\") false rw",
        "Local true rw",
    ];
    assert_eq!(drivers.collect::<Vec<_>>(), expected);
}

#[test]
fn variables_come_from_the_environment_before_the_file() {
    let text = "services: { a: { image: 'i:${TAG}', user: '${WHO:-5}:$GROUP' } }\n";
    let others = [("p/.env", "TAG=1\nGROUP=7\n"), ("$TAG", "2")];
    let (workload, diagnostics) = project(text, &others);
    let image = container(&workload, "a").image.as_ref().map(|image| image.value.as_str());
    assert_eq!((image, user(&workload, "a").as_deref()), (Some("i:2"), Some("5:7")));
    assert_eq!(diagnostics, [] as [&str; 0]);
}

#[test]
fn what_is_extended_lies_underneath() {
    let text = "
services:
  a: { extends: { file: base/other.yaml, service: deep }, user: '9' }
  b: { extends: a, cap_add: [CHOWN], volumes: ['./b:/x'] }
";
    let base = "
services:
  root: { image: i, user: '5', read_only: true, cap_add: [FOWNER] }
  deep: { extends: root, volumes: ['./x:/x', './y:/y'] }
";
    let (workload, diagnostics) = project(text, &[("p/base/other.yaml", base)]);
    assert_eq!(diagnostics, [] as [&str; 0]);
    assert_eq!(user(&workload, "b").as_deref(), Some("9"));
    assert!(container(&workload, "b").read_only_root);
    assert_eq!(mounts(&workload, "b"), ["/p/base/y /y", "/p/b /x"]);
    let Who::Plain(plain) = &container(&workload, "b").who else { panic!("a service") };
    let added: Vec<String> =
        plain.capabilities.add.iter().map(|name| format!("{} {}", name.value, name.from)).collect();
    assert_eq!(added, ["FOWNER p/base/other.yaml:3:59 cap_add", "CHOWN p/compose.yaml:4:30 cap_add"]);
}

#[test]
fn what_is_included_lies_underneath_and_tags_say_how() {
    let text = "
include: [more.yaml]
services:
  a: { user: !reset null, cap_drop: !override [MKNOD], read_only: true }
";
    let more = "services: { a: { image: i, user: '5', cap_drop: [ALL] }, z: { image: i } }\n";
    let (workload, diagnostics) = project(text, &[("p/more.yaml", more)]);
    assert_eq!(diagnostics, [] as [&str; 0]);
    let Who::Plain(plain) = &container(&workload, "a").who else { panic!("a service") };
    let dropped: Vec<&str> = plain.capabilities.drop.iter().map(|name| name.value.as_str()).collect();
    assert_eq!((user(&workload, "a"), dropped), (None, vec!["MKNOD"]));
    assert_eq!(workload.containers.len(), 2);
}

#[test]
fn services_come_behind_those_they_need_and_profiles_wait() {
    let text = "
services:
  a: { image: i, depends_on: [c] }
  b: { image: i, profiles: [debug] }
  c: { image: i, depends_on: { d: { condition: service_started } } }
  d: { image: i }
";
    let names = |others: &[(&str, &str)]| {
        let (workload, diagnostics) = project(text, others);
        let names: Vec<String> = workload.containers.iter().map(|container| container.name.clone()).collect();
        (names.join(" "), diagnostics)
    };
    let note = "note p/compose.yaml:3: left out, for no profile of theirs is active: b".to_owned();
    assert_eq!(names(&[]), ("d c a".to_owned(), vec![note]));
    assert_eq!(names(&[("$COMPOSE_PROFILES", "x,debug")]), ("d c a b".to_owned(), vec![]));
}

#[test]
fn a_bare_project_is_named_after_its_folder() {
    assert_eq!(project("services: { a: { image: i } }\n", &[]).0.name, "p");
    assert_eq!(project("name: tides\nservices: { a: { image: i } }\n", &[]).0.name, "tides");
}

macro_rules! said {
    ($($name:ident: $text:literal => [$($diagnostic:literal),*];)+) => {$(
        #[test]
        fn $name() {
            let (_, diagnostics) = read("p/compose.yaml", &[("p/compose.yaml", $text)]);
            let expected: &[&str] = &[$($diagnostic),*];
            assert_eq!(diagnostics, expected);
        }
    )+};
}

said! {
    a_misspelt_key: "services:\n  a:\n    image: i\n    read-only: true\n" => ["warning p/compose.yaml:4: unknown key `read-only`, ignored"];
    an_extension: "x-any: 1\nservices:\n  a: { image: i, x-mine: 2 }\n" => [];
    a_key_at_the_wrong_level: "image: i\nservices:\n  a: { image: i }\n" => ["warning p/compose.yaml:1: unknown key `image`, ignored"];
    an_undeclared_volume: "services:\n  a: { image: i, volumes: ['dta:/d'] }\nvolumes: { data: }\n" => ["error p/compose.yaml:2: volume `dta` is mounted but not declared"];
    two_at_one_path: "services:\n  a: { image: i, tmpfs: [/x], volumes: ['/x'] }\n" => ["error p/compose.yaml:2: two volumes are mounted at /x: the engine refuses that"];
    a_relative_target: "services:\n  a: { image: i, volumes: ['./x:y'] }\n" => ["error p/compose.yaml:2: `y` is not a path to mount at"];
    a_secret_with_an_owner: "services:\n  a: { image: i, secrets: [ { source: k, uid: '5', mode: 0400 } ] }\nsecrets: { k: { file: ./k } }\n" => ["warning p/compose.yaml:2: `uid` is ignored for a secret from a file: it is bound with the owner and mode it has", "warning p/compose.yaml:2: `mode` is ignored for a secret from a file: it is bound with the owner and mode it has"];
    an_undeclared_secret: "services:\n  a: { image: i, secrets: [k] }\n" => ["error p/compose.yaml:2: secret `k` is not declared"];
    a_variable_without_a_value: "services:\n  a: { image: 'i:$TAG' }\n" => ["warning p/compose.yaml:1: no value for TAG: each counts as empty"];
    a_required_variable: "services:\n  a: { image: 'i:${TAG:?which one}' }\n" => ["error p/compose.yaml:2: the variable TAG has no value, and the file requires one"];
    an_unfinished_variable: "services:\n  a: { image: 'i${X' }\n" => ["error p/compose.yaml:2: a `$` that names no variable"];
    neither_image_nor_build: "services:\n  a: { user: '5' }\n  b:\n" => ["error p/compose.yaml:2: service `a` has neither an image nor a build", "error p/compose.yaml:3: service `b` has neither an image nor a build"];
    a_service_to_depend_on: "services:\n  a: { image: i, depends_on: { bb: { condition: service_started } } }\n  b: { image: i }\n" => ["error p/compose.yaml:2: there is no service `bb` to depend on"];
    a_service_that_may_be_missing: "services:\n  a: { image: i, depends_on: { b: { condition: service_started, required: false } } }\n" => [];
    an_undeclared_network: "services:\n  a: { image: i, networks: [x, default] }\n" => ["error p/compose.yaml:2: network `x` is not declared"];
    services_in_a_circle: "services:\n  a: { image: i, depends_on: [b] }\n  b: { image: i, depends_on: [a] }\n  c: { image: i }\n" => ["error p/compose.yaml:2: services depend on one another in a circle: a, b"];
    a_missing_file_of_variables: "services:\n  a: { image: i, env_file: [none.env, { path: other.env, required: false }] }\n" => ["error p/compose.yaml:2: the file of variables none.env is not there"];
    a_service_that_extends_itself: "services:\n  a: { extends: a }\n" => ["error p/compose.yaml:2: service `a` extends itself"];
    services_that_extend_one_another: "services:\n  a: { extends: b }\n  b: { extends: a }\n" => ["error p/compose.yaml:3: service `a` extends itself: a, b extend one another"];
    a_missing_include: "include: [none.yaml]\nservices: { a: { image: i } }\n" => ["error p/compose.yaml:1: p/none.yaml cannot be read: entity not found"];
    another_namespace: "services:\n  a: { image: i, userns_mode: 'ns:/run/x' }\n  b: { image: i, userns_mode: keep-id }\n" => ["warning p/compose.yaml:2: nobody knows the user namespace `ns:/run/x`: answers depend on the ids it gives"];
    a_type_of_volume: "services:\n  a: { image: i, volumes: [ { type: bnd, target: /x } ] }\n" => ["error p/compose.yaml:2: volumes of type `bnd` are not known here"];
    a_word_where_a_list_belongs: "services:\n  a: { image: i, cap_drop: ALL }\n" => ["error p/compose.yaml:2: `cap_drop` is a list, found a single value"];
    mappings_where_lists_belong: "services:\n  a: { image: i, volumes: {b: c}, tmpfs: {d: e} }\n" => ["error p/compose.yaml:2: `volumes` is a list, found a mapping", "error p/compose.yaml:2: `tmpfs` is a list, found a mapping"];
    words_where_lists_belong: "services:\n  a: { image: i, group_add: 5, security_opt: no-new-privileges, secrets: k, volumes_from: b, profiles: z }\n" => ["error p/compose.yaml:2: `profiles` is a list, found a single value", "error p/compose.yaml:2: `security_opt` is a list, found a single value", "error p/compose.yaml:2: `secrets` is a list, found a single value", "error p/compose.yaml:2: `volumes_from` is a list, found a single value", "error p/compose.yaml:2: `group_add` is a list, found a single value"];
    lists_where_mappings_belong: "services:\n  a: { image: i }\nvolumes: [v]\nsecrets: 5\ninclude: { path: x }\n" => ["error p/compose.yaml:5: `include` is a list, found a mapping", "error p/compose.yaml:3: `volumes` is a mapping, found a list", "error p/compose.yaml:4: `secrets` is a mapping, found a single value"];
}

/// What Compose makes of a file before an engine sees it (docs/facts/runtimes.md section 14).
#[test]
fn what_compose_reads_as_the_field_takes_it() {
    let text = "
services:
  a:
    image: i
    read_only: \"${RO:-true}\"
    labels: { pattern: '^end$' }
    group_add: ['010', 010]
    volumes:
    - { type: bind, source: ./in, target: /in, read_only: 'true' }
    - { type: tmpfs, target: /t, tmpfs: { mode: '0750' } }
    - /srv/a:/data
    - data:/other
    - /srv/b:/data/
volumes: { data: {} }
";
    let (workload, diagnostics) = project(text, &[]);
    assert_eq!(diagnostics, [] as [&str; 0]);
    let service = container(&workload, "a");
    assert!(service.read_only_root);
    let Who::Plain(plain) = &service.who else { panic!("a service") };
    let groups: Vec<String> = plain.groups.iter().map(|group| format!("{:?}", group.value)).collect();
    assert_eq!(groups, ["Number(10)", "Number(8)"], "a text is the engine's to read, a number is YAML's");
    // Of two at one path the last is kept, where the first stood.
    let expected = ["/p/in (must exist) /in ro", "tmpfs Some(\"0750\") /t", "/srv/b /data/", "data /other"];
    assert_eq!(mounts(&workload, "a"), expected);
}

#[test]
fn volumes_of_other_services() {
    let text = "
services:
  a: { image: i, volumes: ['sv:/sv', 'x:/new'] }
  b: { image: i, volumes_from: [a] }
  c: { image: i, volumes_from: ['b:ro'], volumes: ['own:/new'] }
  d: { image: i, volumes_from: ['container:elsewhere'] }
volumes: { sv: , x: , own: }
";
    let (workload, diagnostics) = project(text, &[]);
    assert_eq!(
        mounts(&workload, "c"),
        ["own /new", "sv /sv ro"],
        "what a service lends it may have from another"
    );
    assert_eq!(
        diagnostics,
        [
            "warning p/compose.yaml:6: the volumes of the container `elsewhere` are not known: what is mounted where they are may be otherwise"
        ]
    );
    assert_eq!(container(&workload, "d").unmodelled.len(), 1);
}

#[test]
fn what_is_merged_on_top() {
    let base = "services: { web: { image: i, user: '1000' } }\n";
    let upper = ("p/compose.override.yaml", "services: { web: { user: '0:0' } }\n");
    let (workload, diagnostics) = project(base, &[upper]);
    assert_eq!(user(&workload, "web").as_deref(), Some("0:0"));
    let said = "note p/compose.yaml:1: p/compose.override.yaml is merged on top, as by an engine that is told no file";
    assert_eq!(diagnostics, [said]);
}
