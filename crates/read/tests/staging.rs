//! From a manifest to actors before their mount tables: order, nesting, refusals (docs/facts/kubelet.md sections 3, 8, 9).

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use mivask_core::act::parse_act;
use mivask_core::prepare;
use mivask_core::question::{ask, facts_at, mounts};
use mivask_core::settle::Outcome;
use mivask_core::stage::{Actor, Stage};
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{FileReader, Origin, read_input};

const SCENE: &str = "\
scene: 1
workloads: [pod.yaml]
images:
  i:
    user: null
    accounts: null
    tree:
      - { path: /, kind: dir, owner: '0:0', mode: 0755 }
      - { path: /file, owner: '0:0', mode: 0644 }
      - { path: /closed, kind: dir, owner: '405:405', mode: 0700 }
      - { path: /link, kind: link, owner: '0:0', target: /real/target }
      - { path: /etc/passwd, owner: '0:0', mode: 0644 }
      - { path: /shared, kind: dir, owner: '0:50', mode: 2775 }
volumes:
  disk:
    filesystem: ext4
    group-ownership: apply
    tree:
      - { path: /, kind: dir, owner: '405:50', mode: 0755 }
      - { path: /old, kind: dir, owner: '405:50', mode: 0700 }
      - { path: /old/key, owner: '405:50', mode: 0400 }
      - { path: /out, kind: link, owner: '0:0', target: /etc }
";

/// A scene with one pod in memory.
struct Memory(String);

impl FileReader for Memory {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        match path.to_str() {
            Some("s.yaml") => Ok(SCENE.into()),
            Some("pod.yaml") => Ok(self.0.clone().into_bytes()),
            _ => Err(io::ErrorKind::NotFound.into()),
        }
    }

    fn folder(&self, _: &Path) -> io::Result<Option<Vec<PathBuf>>> {
        Ok(None)
    }

    fn standard_input(&self) -> io::Result<Vec<u8>> {
        Ok(Vec::new())
    }
}

/// The stage of a pod with these security context, container keys, mounts and volumes.
fn stage(pod: &str, keys: &str, mounts: &str) -> Stage {
    let manifest = format!(
        "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p }}\nspec:\n  securityContext: {pod}\n  containers:\n  - {{ name: c, \
         image: i, {keys} volumeMounts: [{mounts}] }}\n  volumes:\n  - {{ name: e, emptyDir: {{}} }}\n  - {{ name: m, emptyDir: \
         {{ medium: Memory }} }}\n  - {{ name: d, persistentVolumeClaim: {{ claimName: disk }} }}\n  - {{ name: r, \
         persistentVolumeClaim: {{ claimName: disk, readOnly: true }} }}\n"
    );
    staged(&manifest)
}

/// The stage of the scene with these pods.
fn staged(manifest: &str) -> Stage {
    let manifest = manifest.to_owned();
    let mut diagnostics = Diagnostics::default();
    let scene = read_input(&Origin::of(Path::new("s.yaml")), &Memory(manifest), &mut diagnostics).unwrap();
    assert!(
        diagnostics.is_empty(),
        "{:?}",
        diagnostics.iter().map(|diagnostic| &diagnostic.message).collect::<Vec<_>>()
    );
    prepare::stage(&scene)
}

fn shown(stage: &Stage, path: &str) -> String {
    let Some(facts) = facts_at(stage, &stage.actors[0], path.as_bytes()) else {
        return "nothing".to_owned();
    };
    format!("{}:{} {}", facts.uid.unwrap(), facts.gid.unwrap(), facts.mode.unwrap())
}

macro_rules! seen {
    ($($name:ident: $pod:literal, $keys:literal, $mounts:literal => $($path:literal $shown:literal),+;)+) => {$(
        #[test]
        fn $name() {
            let stage = stage($pod, $keys, $mounts);
            assert_eq!(stage.actors[0].refusal(), None);
            $(assert_eq!(shown(&stage, $path), $shown, "{}", $path);)+
        }
    )+};
}

seen! {
    a_mount_covers_the_images_directory: "{}", "", "{ name: e, mountPath: /closed }" => "/closed" "0:0 0777";
    a_missing_mount_point_is_made_with_its_parents: "{}", "", "{ name: e, mountPath: /new/deep }" => "/new" "0:0 0755", "/new/deep" "0:0 0777";
    a_mount_point_below_setgid_takes_the_group: "{}", "", "{ name: e, mountPath: /shared/x/y }" => "/shared/x" "0:50 2755", "/shared/x/y" "0:0 0777";
    a_mount_on_a_dangling_link_lands_on_its_target: "{}", "", "{ name: e, mountPath: /link }" => "/link" "0:0 0777", "/real/target" "0:0 0777", "/real" "0:0 0755";
    inner_mounts_come_after_outer_ones: "{}", "", "{ name: m, mountPath: /a/b }, { name: e, mountPath: /a }" => "/a" "0:0 0777", "/a/b" "0:0 1777";
    a_volume_over_etc_gets_the_runtimes_files: "{}", "", "{ name: e, mountPath: /etc }" => "/etc" "0:0 0777", "/etc/passwd" "nothing", "/etc/hosts" "0:0 0644";
    a_declared_mount_replaces_a_default_one: "{}", "", "{ name: m, mountPath: /dev/shm/ }" => "/dev/shm" "0:0 1777";
    one_volume_at_two_paths: "{ fsGroup: 7 }", "", "{ name: d, mountPath: /a }, { name: d, mountPath: /b, subPath: old }" => "/a/old" "405:7 2770", "/b" "405:7 2770", "/b/key" "405:7 0660";
    without_a_filesystem_group_a_claim_stays: "{}", "", "{ name: d, mountPath: /a }" => "/a" "405:50 0755", "/a/old/key" "405:50 0400";
    a_read_only_claim_is_not_walked: "{ fsGroup: 7 }", "", "{ name: r, mountPath: /a }" => "/a/old/key" "405:50 0400";
    a_read_only_mount_of_a_claim_is_walked: "{ fsGroup: 7 }", "", "{ name: d, mountPath: /a, readOnly: true }" => "/a/old/key" "405:7 0660";
    a_missing_sub_path_is_roots: "{}", "", "{ name: d, mountPath: /a, subPath: new }" => "/a" "0:0 0755";
    a_missing_working_directory_is_roots: "{ runAsUser: 9 }", "workingDir: /work/here,", "" => "/work/here" "0:0 0755";
    a_missing_working_directory_in_a_group_volume: "{ fsGroup: 7 }", "workingDir: /e/here,", "{ name: e, mountPath: /e }" => "/e/here" "0:7 2755";
    the_termination_log_goes_where_it_is_sent: "{}", "terminationMessagePath: /logs/last,", "" => "/logs/last" "0:0 0666", "/logs" "0:0 0755", "/dev/termination-log" "nothing";
}

macro_rules! refused {
    ($($name:ident: $pod:literal, $mounts:literal => $class:literal, $reason:literal;)+) => {$(
        #[test]
        fn $name() {
            let stage = stage($pod, "", $mounts);
            let refusal = stage.actors[0].refusal().unwrap();
            assert_eq!((refusal.class.word(), refusal.reason.as_str()), ($class, $reason));
            let answer = ask(&stage, &parse_act("c inspects /").unwrap()).unwrap();
            assert!(matches!(answer.outcome, Outcome::NeverRuns(_)));
        }
    )+};
}

refused! {
    a_directory_on_a_file: "{}", "{ name: e, mountPath: /file }" => "StartError", "/file is a file, a dir cannot be mounted on it";
    a_mount_below_a_file: "{}", "{ name: e, mountPath: /file/x }" => "StartError", "the mount point /file/x cannot be made: ENOTDIR (not a directory)";
    a_missing_mount_point_in_a_read_only_volume: "{}", "{ name: e, mountPath: /a, readOnly: true }, { name: m, mountPath: /a/b }" => "StartError", "the mount point /a/b cannot be made: the mount point is missing and the volume around it is mounted read-only";
    a_sub_path_that_leaves_the_volume_by_a_link: "{}", "{ name: d, mountPath: /a, subPath: out }" => "CreateContainerConfigError", "failed to prepare subPath: a link leads out of the volume";
    a_sub_path_below_a_file: "{}", "{ name: d, mountPath: /a, subPath: old/key/x }" => "CreateContainerConfigError", "failed to prepare subPath: a component is not a directory";
}

/// The counts of section 7: what the walk changes, and what a matching root leaves behind.
#[test]
fn the_filesystem_group_step_is_counted() {
    let report = |pod: &str| {
        let stage = stage(pod, "", "{ name: d, mountPath: /a }");
        let row = mounts(&stage, &stage.actors[0]).into_iter().find(|row| row.at == b"/a").unwrap();
        let before = row.prepared_from.map(|root| format!("{}:{} {}", root.uid, root.gid, root.mode));
        (row.touches, before, row.notes.join("; "))
    };
    let (touches, before, _) = report("{ fsGroup: 7 }");
    assert_eq!((touches, before.as_deref()), (3, Some("405:50 0755")), "the link is left alone");
    let (touches, before, note) = report("{}");
    assert_eq!((touches, before, note.as_str()), (0, None, ""));
    let (touches, _, _) = report("{ fsGroup: 50, fsGroupChangePolicy: OnRootMismatch }");
    assert_eq!(touches, 3, "the group matches, the mode does not");
}

/// Containers of one pod share its volumes: an inner mount point one of them needs is there for all.
#[test]
fn containers_of_a_pod_share_its_volumes() {
    let manifest = "apiVersion: v1\nkind: Pod\nmetadata: { name: p }\nspec:\n  containers:\n  - { name: a, image: i, \
                    volumeMounts: [{ name: e, mountPath: /e }, { name: m, mountPath: /e/in }] }\n  - { name: b, image: i, \
                    volumeMounts: [{ name: e, mountPath: /e }] }\n  volumes: [{ name: e, emptyDir: {} }, { name: m, emptyDir: {} }]\n";
    let mut diagnostics = Diagnostics::default();
    let scene =
        read_input(&Origin::of(Path::new("s.yaml")), &Memory(manifest.to_owned()), &mut diagnostics).unwrap();
    let stage = prepare::stage(&scene);
    let seen = facts_at(&stage, stage.actor("b").unwrap(), b"/e/in").unwrap();
    assert_eq!(seen.mode.unwrap().to_string(), "0755", "the bare mount point, not what a sees there");
}

#[test]
fn containers_hold_what_they_have_in_common_once_and_each_has_disks_of_its_own() {
    let pod = |name: &str, at: &str| {
        format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{ name: {name} }}\nspec:\n  containers:\n    - {{ name: {name}, image: i, \
             volumeMounts: [{{ name: e, mountPath: {at} }}] }}\n  volumes: [{{ name: e, emptyDir: {{}} }}]\n---\n"
        )
    };
    let stage = staged(&(pod("a", "/e") + &pod("b", "/e") + &pod("c", "/elsewhere")));
    let [a, b, c] = [0, 1, 2].map(|at| &stage.actors[at]);
    let source = |actor: &Actor, at: &[u8]| {
        let (_, mount) = actor.mounts.iter().find(|(_, mount)| *mount.facts.at == *at).unwrap();
        (mount.variants[0].source, mount.facts.clone())
    };
    let tree = |actor: &Actor, at: &[u8]| stage.source(source(actor, at).0).tree.clone();
    for at in [&b"/"[..], b"/dev", b"/e", b"/etc/hosts"] {
        assert!(Arc::ptr_eq(&tree(a, at), &tree(b, at)), "{}", String::from_utf8_lossy(at));
        assert!(!stage.storage.on_one_disk(source(a, at).0, source(b, at).0));
    }
    assert!(Arc::ptr_eq(&source(a, b"/proc").1, &source(c, b"/proc").1));
    // Another mount point was made in the image.
    assert!(!Arc::ptr_eq(&tree(a, b"/"), &tree(c, b"/")));
}
