//! Pods as a kubelet prepares them, rebuilt on the kernel.

use crate::support::{agree, stage_of};

/// A pod around `security` and `volumes`, with a container `gauge` of an image that has no USER.
fn scene(pod: &str, container: &str) -> String {
    let manifest = format!(
        "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p }}\nspec:\n  securityContext: {pod}\n  containers:\n  - \
         name: gauge\n    image: tides/gauge:3\n    securityContext: {container}\n    volumeMounts:\n    - \
         {{ name: app, mountPath: /data/app }}\n    - {{ name: memory, mountPath: /memory }}\n    - \
         {{ name: app, mountPath: /part, subPath: a/b }}\n  volumes:\n  - {{ name: app, emptyDir: {{}} }}\n  - \
         {{ name: memory, emptyDir: {{ medium: Memory }} }}\n"
    );
    manifest
}

/// The same with facts about the image: accounts, a world-writable directory and a closed one.
fn with_image(pod: &str, container: &str) -> mivask_core::stage::Stage {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let manifest = folder.path().join("pod.yaml");
    std::fs::write(&manifest, scene(pod, container)).expect("the manifest is written");
    let path = manifest.display();
    stage_of(&format!(
        "scene: 1\nworkloads: [{path}]\nimages:\n  tides/gauge:3:\n    user: null\n    accounts: {{ passwd: \
         'root:x:0:0::/:', group: 'root:x:0:' }}\n    tree:\n    - {{ path: /, kind: dir, owner: '0:0', mode: 0755 \
         }}\n    - {{ path: /open, kind: dir, owner: '0:0', mode: 0777 }}\n    - {{ path: /etc, kind: dir, owner: \
         '0:0', mode: 0755 }}\n    - {{ path: /closed, kind: dir, owner: '405:1001', mode: 0750 }}\n"
    ))
}

const TIDES: &str = "{ runAsUser: 7101, runAsGroup: 7200, fsGroup: 7300 }";

fn all_agree(pod: &str, container: &str, acts: &[&str]) {
    let stage = with_image(pod, container);
    acts.iter().for_each(|act| agree(&stage, "pod", act));
}

#[test]
fn a_filesystem_group_reaches_what_is_created_in_an_empty_dir() {
    all_agree(
        TIDES,
        "{}",
        &[
            "gauge creates /data/app/x -> leaves 7101:7300 0644",
            "gauge makes-directory /data/app/x -> leaves 7101:7300 2755",
            "gauge creates /memory/x -> leaves 7101:7300 0644",
            "gauge creates /part/x -> leaves 7101:7300 0644",
            "gauge creates /open/x -> leaves 7101:7200 0644",
            "gauge creates /closed/x -> denied EACCES",
            "gauge writes /dev/null -> allowed",
            "gauge writes /etc/hosts -> denied EACCES",
            "gauge appends /dev/termination-log -> allowed",
            "gauge creates /dev/shm/x -> leaves 7101:7200 0644",
        ],
    );
}

#[test]
fn without_a_security_context_root_leaves_its_own_ids() {
    all_agree(
        "{}",
        "{}",
        &[
            "gauge creates /data/app/x -> leaves 0:0 0644",
            "gauge creates /open/x -> leaves 0:0 0644",
            "gauge creates /closed/x -> leaves 0:0 0644",
        ],
    );
}

#[test]
fn a_read_only_root_leaves_volumes_and_the_runtimes_own_mounts_writable() {
    all_agree(
        "{}",
        "{ readOnlyRootFilesystem: true }",
        &[
            "gauge creates /open/x -> denied EROFS",
            "gauge creates /data/app/x -> leaves 0:0 0644",
            "gauge writes /etc/hosts -> allowed",
            "gauge writes /etc/hostname -> denied EROFS",
            "gauge creates /dev/x -> leaves 0:0 0644",
        ],
    );
}

#[test]
fn root_without_capabilities_obeys_the_bits() {
    all_agree(
        "{}",
        "{ capabilities: { drop: [ALL] } }",
        &["gauge creates /closed/x -> denied EACCES", "gauge creates /open/x -> leaves 0:0 0644"],
    );
}
