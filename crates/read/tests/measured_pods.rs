//! Identities and volumes of pods, row by row as measured on a kubelet (docs/facts/kubelet.md sections 1, 4, 5, 9).

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use mivask_core::fact::{Fact, Provenance};
use mivask_core::identity::{ImageFacts, Knowledge};
use mivask_core::prepare;
use mivask_core::question::{facts_at, mounts};
use mivask_core::scene::{Image, Scene};
use mivask_core::stage::Stage;
use mivask_read::diagnostic::Diagnostics;
use mivask_read::kubernetes::add;
use mivask_read::skipped::Skipped;
use mivask_read::text::SourceText;
use mivask_read::yaml;

mod fixtures;

/// The stage of one pod with one container, whose image has this USER and, unless `bare`, these accounts.
fn stage(user: Option<&str>, pod: &str, container: &str, extra: &str, bare: bool) -> Stage {
    let text = format!(
        "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p }}\nspec:\n  securityContext: {pod}\n  containers:\n  - \
         {{ name: c, image: i, securityContext: {container}{extra}\n"
    );
    let source = SourceText::new("pod.yaml", &text);
    let mut diagnostics = Diagnostics::default();
    let nodes = yaml::parse(&source, &mut diagnostics);
    let mut scene = Scene::default();
    for node in &nodes {
        add(node, &source, &mut scene, &mut Skipped::default(), &mut diagnostics);
    }
    assert_eq!(
        scene.workloads.len(),
        1,
        "{text}\n{:?}",
        diagnostics.iter().map(|diagnostic| &diagnostic.message).collect::<Vec<_>>()
    );
    let known = if bare { mivask_core::accounts::Accounts::default() } else { fixtures::accounts() };
    let user = user.map(|user| Fact::new(user.to_owned(), Provenance::rule("the image")));
    let identity =
        ImageFacts { user: Knowledge::Known(user), accounts: Knowledge::Known(known), covered: false };
    let images = [("i".to_owned(), Image { identity, ..Image::default() })].into();
    prepare::stage(&Scene { images, ..scene })
}

/// `uid:gid` and the groups line of `/proc/self/status`, or the status of a refusal.
fn identity(user: Option<&str>, pod: &str, container: &str, bare: bool) -> String {
    let stage = stage(user, pod, container, " }", bare);
    let actor = &stage.actors[0];
    if let Some(refusal) = actor.refusal() {
        return refusal.class.to_string();
    }
    let [(_, who)] = actor.identity.possible.as_slice() else { panic!("the identity is not settled") };
    let groups: Vec<String> = who.groups.iter().map(ToString::to_string).collect();
    format!("{}:{} {}", who.uid, who.gid, groups.join(","))
}

macro_rules! identities {
    ($($name:ident: $user:expr, $pod:literal, $container:literal => $expected:literal;)+) => {$(
        #[test]
        fn $name() {
            for user in $user {
                assert_eq!(identity(user, $pod, $container, false), $expected, "USER {user:?}");
            }
        }
    )+};
}

const SOME_USER: [Option<&str>; 3] = [None, Some("bob"), Some("nouser")];

identities! {
    // 1.1: image USER, no runAsUser.
    image_root: [None, Some("root"), Some("0"), Some(":staff"), Some("0:0"), Some("0:50"), Some("root:staff")], "{}", "{}" => "0:0 0,10";
    image_alice: [Some("alice"), Some("1000"), Some("1000:50"), Some("alice:staff"), Some("alice:nogroup"), Some("alice:"), Some("01000"), Some("+1000")], "{}", "{}" => "1000:1000 9,10,29,50,1000,4100,4200,4301";
    image_without_account: [Some("9999"), Some("9999:9998")], "{}", "{}" => "9999:0 0";
    image_app: [Some("app"), Some("405")], "{}", "{}" => "405:1001 50,1001";
    image_bob: [Some("bob"), Some("1001")], "{}", "{}" => "1001:1000 50,1000,4101";
    image_second_name_of_a_uid: [Some("dupb")], "{}", "{}" => "2000:2002 2002,4050";
    image_number_that_is_a_name: [Some("1234")], "{}", "{}" => "1234:0 0";
    image_toor: [Some("toor")], "{}", "{}" => "0:777 777,4600";
    image_unknown_user: [Some("nouser"), Some("4294967295")], "{}", "{}" => "CreateContainerError";

    // 1.2: runAsUser, runAsGroup, supplementalGroups, fsGroup.
    run_as_user: SOME_USER, "{ runAsUser: 1000 }", "{}" => "1000:1000 9,10,29,50,1000,4100,4200,4301";
    run_as_user_with_two_lines: SOME_USER, "{ runAsUser: 2000 }", "{}" => "2000:2001 2001,4051";
    run_as_user_without_account: SOME_USER, "{ runAsUser: 9999 }", "{}" => "9999:0 0";
    run_as_group_replaces_the_primary: SOME_USER, "{ runAsUser: 1000, runAsGroup: 50 }", "{}" => "1000:50 9,10,29,50,4100,4200,4301";
    run_as_group_zero: SOME_USER, "{ runAsUser: 1000, runAsGroup: 0 }", "{}" => "1000:0 0,9,10,29,50,4100,4200,4301";
    root_with_a_group: SOME_USER, "{ runAsUser: 0, runAsGroup: 50 }", "{}" => "0:50 10,50";
    neither_has_an_account: SOME_USER, "{ runAsUser: 9999, runAsGroup: 9998 }", "{}" => "9999:9998 9998";
    container_user_over_pod: SOME_USER, "{ runAsUser: 1000, runAsGroup: 50 }", "{ runAsUser: 405 }" => "405:50 50";
    container_over_pod: SOME_USER, "{ runAsUser: 1000, runAsGroup: 50 }", "{ runAsUser: 9999, runAsGroup: 0 }" => "9999:0 0";
    container_group_alone: [Some("bob")], "{}", "{ runAsGroup: 50 }" => "1001:50 50,4101";
    container_group_alone_without_user: [None], "{}", "{ runAsGroup: 50 }" => "0:50 10,50";
    pod_group_alone: [None, Some("alice")], "{ runAsGroup: 50 }", "{ runAsUser: 1000 }" => "FailedCreatePodSandBox";
    supplemental_groups: SOME_USER, "{ runAsUser: 9999, supplementalGroups: [7777, 50, 7777] }", "{}" => "9999:0 0,50,7777";
    fs_group: SOME_USER, "{ runAsUser: 9999, fsGroup: 7000 }", "{}" => "9999:0 0,7000";
    fs_group_zero: SOME_USER, "{ runAsUser: 9999, runAsGroup: 5, fsGroup: 0 }", "{}" => "9999:5 0,5";
    all_at_once: SOME_USER, "{ runAsUser: 9999, runAsGroup: 3000, fsGroup: 2000, supplementalGroups: [4000] }", "{}" => "9999:3000 2000,3000,4000";
    strict_policy: SOME_USER, "{ runAsUser: 1000, supplementalGroups: [7], supplementalGroupsPolicy: Strict }", "{}" => "1000:1000 7,1000";
    largest_id: SOME_USER, "{ runAsUser: 2147483647 }", "{}" => "2147483647:0 0";

    // 1.3: runAsNonRoot.
    non_root_with_a_user: SOME_USER, "{ runAsNonRoot: true, runAsUser: 9999 }", "{}" => "9999:0 0";
    non_root_with_root: SOME_USER, "{ runAsNonRoot: true, runAsUser: 0 }", "{}" => "CreateContainerConfigError";
    non_root_and_the_image_is_root: [None, Some("0"), Some("0:50"), Some(":staff")], "{ runAsNonRoot: true }", "{}" => "CreateContainerConfigError";
    non_root_and_the_image_has_a_name: [Some("alice"), Some("alice:staff"), Some("nouser")], "{ runAsNonRoot: true }", "{}" => "CreateContainerConfigError";
    non_root_and_the_image_has_a_number: [Some("9999"), Some("9999:50")], "{ runAsNonRoot: true }", "{}" => "9999:0 0";
    non_root_and_a_number_that_is_a_name: [Some("1234")], "{ runAsNonRoot: true }", "{}" => "1234:0 0";
    container_takes_it_back: [None], "{ runAsNonRoot: true }", "{ runAsNonRoot: false }" => "0:0 0,10";
}

#[test]
fn an_image_without_account_files() {
    assert_eq!(identity(Some("1000"), "{}", "{}", true), "1000:0 0");
    assert_eq!(identity(None, "{ runAsUser: 1000 }", "{}", true), "1000:0 0");
    assert_eq!(identity(Some("alice"), "{}", "{}", true), "CreateContainerError");
}

/// `uid:gid mode` of the mount at `/v` around one volume.
fn volume(pod: &str, volume: &str) -> String {
    let extra =
        format!(", volumeMounts: [{{ name: v, mountPath: /v }}] }}\n  volumes: [{{ name: v, {volume} }}]");
    let stage = stage(None, pod, "{}", &extra, true);
    let row = mounts(&stage, &stage.actors[0]).into_iter().find(|row| row.at == b"/v").unwrap();
    let root = row.root.unwrap();
    format!("{}:{} {}", root.uid, root.gid, root.mode)
}

macro_rules! volumes {
    ($($name:ident: $pod:literal, $volume:literal => $expected:literal;)+) => {$(
        #[test]
        fn $name() {
            assert_eq!(volume($pod, $volume), $expected);
        }
    )+};
}

// Section 4.
volumes! {
    empty_dir: "{}", "emptyDir: {}" => "0:0 0777";
    empty_dir_with_a_size: "{}", "emptyDir: { sizeLimit: 64Mi }" => "0:0 0777";
    empty_dir_with_a_group: "{ fsGroup: 7000 }", "emptyDir: {}" => "0:7000 2777";
    empty_dir_with_group_0: "{ fsGroup: 0 }", "emptyDir: {}" => "0:0 2777";
    empty_dir_in_memory: "{}", "emptyDir: { medium: Memory }" => "0:0 1777";
    empty_dir_in_memory_with_a_group: "{ fsGroup: 7000 }", "emptyDir: { medium: Memory }" => "0:7000 3777";
    the_change_policy_does_not_matter: "{ fsGroup: 7000, fsGroupChangePolicy: OnRootMismatch }", "emptyDir: {}" => "0:7000 2777";
    run_as_user_does_not_matter: "{ runAsUser: 1000 }", "emptyDir: {}" => "0:0 0777";
}

/// Section 9: missing mount points, and those nested in a volume.
#[test]
fn missing_mount_points_are_made_by_root() {
    let extra = ", volumeMounts: [{ name: v, mountPath: /a/b/inner }, { name: v, mountPath: /a }] }\n  volumes: [{ \
                 name: v, emptyDir: {} }]";
    let stage = stage(None, "{ fsGroup: 7000 }", "{}", extra, true);
    let actor = &stage.actors[0];
    let facts = facts_at(&stage, actor, b"/a/b").unwrap();
    let (uid, gid, mode) = (facts.uid.unwrap().raw(), facts.gid.unwrap().raw(), facts.mode.unwrap());
    assert_eq!(
        format!("{uid}:{gid} {mode}"),
        "0:7000 2755",
        "made inside the outer volume, whatever the order"
    );
}

/// Section 3: the runtime's own mounts.
#[test]
fn default_mounts_have_their_measured_owners_and_modes() {
    let stage = stage(None, "{}", "{}", " }", true);
    let shown = |path: &[u8]| {
        let facts = facts_at(&stage, &stage.actors[0], path).unwrap();
        format!("{}:{} {}", facts.uid.unwrap(), facts.gid.unwrap(), facts.mode.unwrap())
    };
    for (path, expected) in [
        ("/etc/hosts", "0:0 0644"),
        ("/dev/termination-log", "0:0 0666"),
        ("/dev/shm", "0:0 1777"),
        ("/dev/mqueue", "0:0 1777"),
        ("/dev", "0:0 0755"),
        ("/dev/null", "0:0 0666"),
    ] {
        assert_eq!(shown(path.as_bytes()), expected, "{path}");
    }
}
