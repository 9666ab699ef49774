//! SELinux once something changes: labels of what acts make, other levels, labels that last, booleans, and who keeps whom out.

#![expect(clippy::unwrap_used, reason = "tests")]

mod labels {
    pub(crate) mod scenes;
}

use std::sync::Arc;

use labels::scenes::{POLICY, asked, scene_with, staged_with, verdict};
use mivask_core::change::{Changes, parse_change, parse_sentence};
use mivask_core::glob::NoGlobs;
use mivask_core::handoff::{Use, handoffs};
use mivask_core::parse_act;
use mivask_core::prepare;
use mivask_core::question::remarks;
use mivask_core::rehearse::{Rehearsal, RehearsalStep};
use mivask_core::remedy::{Situation, remedies};
use mivask_core::scene::Scene;
use mivask_core::settle::Outcome;

const SHARED: &str = "system_u:object_r:container_file_t:s0";

/// Two services that have a folder of the host with this label at `/data`, with this option.
fn two(label: &str, option: &str) -> (String, String) {
    let scene = format!(
        "scene: 1\nruntime: podman\nworkloads: [compose.yaml]\nhost:\n  selinux: {{ policy: '{POLICY}' }}\n  tree:\n    \
         - {{ path: /, kind: dir, owner: '0:0', mode: '0755', label: 'system_u:object_r:root_t:s0' }}\n    \
         - {{ path: /srv, kind: dir, owner: '0:0', mode: '0755', label: 'system_u:object_r:var_t:s0' }}\n    \
         - {{ path: /srv/box, kind: dir, owner: '7101:7101', mode: '0755', label: '{label}' }}\n    \
         - {{ path: /srv/box/old, owner: '7101:7101', mode: '0666', label: '{label}' }}\n\
         images: {{ i: {{ user: '7101:7101' }} }}\n"
    );
    let service = |name: &str| format!("  {name}: {{ image: i, volumes: ['/srv/box:/data{option}'] }}\n");
    (scene, format!("name: p\nservices:\n{}{}", service("a"), service("b")))
}

fn described(label: &str, option: &str) -> Scene {
    let (scene, compose) = two(label, option);
    scene_with(&scene, &[("compose.yaml", &compose)])
}

/// How each line of a rehearsal ends.
fn rehearsed(scene: Scene, lines: &[&str]) -> Vec<&'static str> {
    let mut rehearsal = Rehearsal::new(scene, &Changes::new(Vec::new())).unwrap();
    for line in lines {
        rehearsal.next(&parse_sentence(line).unwrap()).unwrap();
    }
    let word = |step: &RehearsalStep| match step {
        RehearsalStep::Act { answer, .. } => {
            answer.outcome.errno().map_or(answer.outcome.word(), |one| one.name())
        }
        RehearsalStep::Several(_) => "several",
        RehearsalStep::Change { .. } => "changed",
    };
    rehearsal.steps().iter().map(word).collect()
}

#[test]
fn what_one_container_makes_has_its_own_level() {
    let scene = described(SHARED, "");
    let ends = rehearsed(
        scene,
        &[
            "a creates /data/x",
            "a reads /data/x",
            "b reads /data/x",
            "b deletes /data/x",
            "a makes-directory /data/d",
            "b enters /data/d",
            // Another name is the same file, and old files are as they were.
            "a renames /data/x to /data/old",
            "b reads /data/old",
        ],
    );
    assert_eq!(ends, ["allowed", "allowed", "EACCES", "EACCES", "allowed", "EACCES", "allowed", "EACCES"]);
}

#[test]
fn an_engine_that_starts_again_with_z_labels_what_was_made() {
    let ends = rehearsed(
        described(SHARED, ""),
        &[
            "a creates /data/x",
            "a mounts /data with z",
            "b mounts /data with z",
            "b reads /data/x",
            "a creates /data/y",
            "b reads /data/y",
        ],
    );
    assert_eq!(ends, ["allowed", "changed", "changed", "allowed", "allowed", "EACCES"]);
}

#[test]
fn one_level_lets_containers_share_what_they_make() {
    let lines =
        ["a level s0:c7,c8", "b level s0:c7,c8", "a creates /data/x", "b reads /data/x", "b deletes /data/x"];
    assert_eq!(
        rehearsed(described(SHARED, ""), &lines),
        ["changed", "changed", "allowed", "allowed", "allowed"]
    );
    // A level that stands for a drawn one is none that was told: nobody knows then what was labelled with it.
    let lines =
        ["a creates /data/x", "b level s0:c1023", "a reads /data/x", "a creates /data/y", "a reads /data/y"];
    assert_eq!(
        rehearsed(described(SHARED, ""), &lines),
        ["allowed", "changed", "depends", "allowed", "allowed"]
    );
}

/// What an engine has labelled it labels again for a container that is made again, or has another level.
#[test]
fn a_container_that_is_made_again_finds_its_own_label() {
    let alone = || {
        let (scene, compose) = two(SHARED, ":Z");
        let compose = compose.replace("  b: { image: i, volumes: ['/srv/box:/data:Z'] }\n", "");
        (scene, compose)
    };
    let read = |runtime: &str| {
        let (scene, compose) = alone();
        let scene = scene.replace("runtime: podman", &format!("runtime: {runtime}"));
        scene_with(&scene, &[("compose.yaml", &compose)])
    };
    let lines =
        ["a creates /data/x", "a level s0:c7,c8", "a reads /data/x", "a creates /data/y", "a reads /data/y"];
    assert_eq!(rehearsed(read("podman"), &lines), ["allowed", "changed", "allowed", "allowed", "allowed"]);
    // Of a folder that nobody labels, what it made before is another's.
    assert_eq!(rehearsed(described(SHARED, ""), &lines[..3]), ["allowed", "changed", "EACCES"]);
    let shared = |runtime: &str| {
        let (scene, compose) = two(SHARED, ":z");
        let scene = scene.replace("runtime: podman", &format!("runtime: {runtime}"));
        scene_with(&scene, &[("compose.yaml", &compose)])
    };
    let again = |line: &'static str| ["a creates /data/x", "b reads /data/x", line, "b reads /data/x"];
    for runtime in ["docker", "podman"] {
        let ends = rehearsed(shared(runtime), &again("b is made again"));
        assert_eq!(ends, ["allowed", "EACCES", "changed", "allowed"], "{runtime}");
    }
    // Docker labels it at every start, Podman once.
    assert_eq!(rehearsed(shared("docker"), &again("b starts again"))[3], "allowed");
    assert_eq!(rehearsed(shared("podman"), &again("b starts again"))[3], "EACCES");
}

#[test]
fn a_label_that_somebody_sets_is_not_known() {
    let lines = ["for a tags /data/old with security.selinux", "a reads /data/old"];
    assert_eq!(rehearsed(described(SHARED, ""), &lines), ["changed", "depends"]);
}

#[test]
fn the_host_labels_a_folder_for_good() {
    let lines = ["a reads /data/old", "host labels /srv/box as container_file_t", "a reads /data/old"];
    assert_eq!(
        rehearsed(described("system_u:object_r:var_t:s0", ""), &lines),
        ["EACCES", "changed", "allowed"]
    );
    // What was made with a level of its own has none then, as `restorecon -F` leaves it.
    let lines = ["a creates /data/x", "host labels /srv as container_file_t", "b reads /data/x"];
    assert_eq!(rehearsed(described(SHARED, ""), &lines), ["allowed", "changed", "allowed"]);
}

#[test]
fn changes_of_the_host_that_cannot_be_made_say_why() {
    let said = |scene: Scene, change: &str| {
        let mut scene = scene;
        let made = Changes::new(vec![parse_change(change).unwrap()]).apply_to_scene(&mut scene);
        made.unwrap_err().to_string()
    };
    let on = || described(SHARED, "");
    assert_eq!(
        said(on(), "host sets-boolean no_such on"),
        "`host sets-boolean no_such on` cannot be made: the policy has no boolean `no_such`"
    );
    assert_eq!(
        said(on(), "host labels /srv/none as container_file_t"),
        "`host labels /srv/none as container_file_t` cannot be made: /srv/none is not there on the host"
    );
    assert_eq!(
        said(on(), "host labels /srv/box as no_such_t"),
        "`host labels /srv/box as no_such_t` cannot be made: system_u:object_r:no_such_t:s0: the policy has no type `no_such_t`"
    );
    let silent = || scene_with("scene: 1\ncontainers:\n  - { name: a, user: '1:1' }\n", &[]);
    assert!(said(silent(), "host sets-boolean x on").ends_with("add `host: { selinux: { policy: FILE } }`"));
    assert!(said(silent(), "host labels /x as y_t").ends_with("nothing is said of SELinux on the host"));
    let loose = two(SHARED, "").1.replace("image: i", "image: i, security_opt: ['label=disable']");
    let loose = scene_with(&two(SHARED, "").0, &[("compose.yaml", &loose)]);
    assert!(
        said(loose, "a level s0:c1").ends_with("it has no label of its own: take away what says so first")
    );
}

#[test]
fn whoever_starts_last_keeps_the_others_out_and_is_told() {
    let scene = described(SHARED, ":Z");
    let stage = prepare::stage(&scene);
    let told = remarks(&scene, &scene.workloads, &stage, &|_| true);
    let told: Vec<&str> = told.iter().map(|one| one.message.as_str()).collect();
    assert_eq!(
        told,
        [
            "a, b share /srv/box, and `Z` labels it for one of them alone: whichever starts last keeps the others out"
        ]
    );
    // Where SELinux is off, or only logs, nobody is kept out.
    for mode in ["disabled", "permissive", &format!("{{ policy: '{POLICY}', enforcing: false }}")] {
        let (scene, compose) = two(SHARED, ":Z");
        let scene = scene.replace(&format!("{{ policy: '{POLICY}' }}"), mode);
        let scene = scene_with(&scene, &[("compose.yaml", &compose)]);
        assert!(remarks(&scene, &scene.workloads, &prepare::stage(&scene), &|_| true).is_empty(), "{mode}");
    }
    let shared = described(SHARED, ":z");
    assert!(remarks(&shared, &shared.workloads, &prepare::stage(&shared), &|_| true).is_empty());
}

/// With one level `Z` labels it for all of them, whoever starts last.
#[test]
fn one_level_takes_nothing_from_anybody() {
    let (scene, compose) = two(SHARED, ":Z");
    let levelled = |levels: [&str; 2]| {
        let mut compose = compose.clone();
        for (name, level) in ["a", "b"].iter().zip(levels) {
            let own = format!("  {name}: {{ image: i, security_opt: ['label=level:{level}']");
            compose = compose.replace(&format!("  {name}: {{ image: i"), &own);
        }
        scene_with(&scene, &[("compose.yaml", &compose)])
    };
    let one = levelled(["s0:c7,c8", "s0:c7,c8"]);
    assert!(remarks(&one, &one.workloads, &prepare::stage(&one), &|_| true).is_empty());
    assert_eq!(rehearsed(one, &["a creates /data/x", "b deletes /data/x"]), ["allowed", "allowed"]);
    assert_eq!(rehearsed(levelled(["s0:c7,c8", "s0:c7,c9"]), &["a creates /data/x"]), ["depends"]);
}

#[test]
fn a_hand_off_fails_for_the_level_of_whoever_made_the_file() {
    let scene = described(SHARED, ":z");
    let found = handoffs(&prepare::stage(&scene), &[]);
    let of_a = found[0].creations.iter().find(|one| one.creator == "a").unwrap();
    for part in [of_a.consumers[0].file.as_ref(), of_a.consumers[0].nested.as_ref()] {
        for wanted in Use::ALL {
            let end = part.unwrap().of(wanted);
            assert!(matches!(end.outcome, Outcome::Denied(Some(_))), "{wanted:?}: {end:?}");
        }
    }
}

/// The changes of each remedy, the best first.
fn proposed(scene: &Scene, act: &str) -> Vec<String> {
    let changes = Changes::with_globs(Vec::new(), Arc::new(NoGlobs));
    let situation = Situation::new(scene, &changes);
    let found = remedies(&situation, &parse_act(act).unwrap()).unwrap();
    let one = |steps: &[mivask_core::remedy::RemedyStep]| {
        steps.iter().map(|step| step.change.to_string()).collect::<Vec<_>>().join("; ")
    };
    found.remedies.iter().map(|remedy| one(&remedy.steps)).collect()
}

#[test]
fn remedies_name_levels_labels_and_booleans() {
    // Somebody else's level: the container's own can be that.
    let other = described("system_u:object_r:container_file_t:s0:c5,c6", "");
    assert_eq!(
        proposed(&other, "a reads /data/old"),
        [
            "a level s0:c5,c6",
            "a mounts /data with Z",
            "a mounts /data with z",
            "host labels /srv/box as container_file_t"
        ]
    );
    let contested = described(SHARED, ":Z");
    assert_eq!(proposed(&contested, "a reads /data/old"), ["a mounts /data with z; b mounts /data with z"]);
    // A file system without labels of its own: the policy's boolean is all there is.
    let remote = scene_with(
        &format!(
            "scene: 1\nworkloads: [pod.yaml]\nhost: {{ selinux: {{ policy: '{POLICY}' }} }}\nimages: {{ i: {{ user: '7101:7101' }} }}\n\
             volumes: {{ share: {{ filesystem: nfs, export: {{ squash: none }}, tree: [{{ path: /, kind: dir, owner: '7101:7101', \
             mode: '0755' }}] }} }}\n"
        ),
        &[(
            "pod.yaml",
            "apiVersion: v1\nkind: Pod\nmetadata: { name: p }\nspec:\n  containers: [{ name: a, image: i, volumeMounts: [{ name: v, \
             mountPath: /data }] }]\n  volumes: [{ name: v, persistentVolumeClaim: { claimName: share } }]\n",
        )],
    );
    assert_eq!(proposed(&remote, "a creates /data/x"), ["host sets-boolean virt_use_nfs on"]);
}

#[test]
fn no_remedy_touches_the_system_or_a_home_as_a_whole() {
    for path in ["/etc/app", "/home/ada", "/root/x", "/srv"] {
        let label = "unconfined_u:object_r:user_home_t:s0";
        let parents: String = ["/home", "/etc", "/root", "/srv"]
            .iter()
            .filter(|above| **above != path)
            .map(|above| {
                format!("    - {{ path: {above}, kind: dir, owner: '0:0', mode: '0755', label: 'system_u:object_r:root_t:s0' }}\n")
            })
            .collect();
        let scene = format!(
            "scene: 1\nworkloads: [pod.yaml]\nhost:\n  selinux: {{ policy: '{POLICY}' }}\n  tree:\n    \
             - {{ path: /, kind: dir, owner: '0:0', mode: '0755', label: 'system_u:object_r:root_t:s0' }}\n{parents}    \
             - {{ path: {path}, kind: dir, owner: '7101:7101', mode: '0755', label: '{label}' }}\n\
             images: {{ i: {{ user: '7101:7101' }} }}\n"
        );
        let pod = format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p }}\nspec:\n  containers: [{{ name: a, image: i, volumeMounts: \
             [{{ name: v, mountPath: /data }}] }}]\n  volumes: [{{ name: v, hostPath: {{ path: {path} }} }}]\n"
        );
        let scene = scene_with(&scene, &[("pod.yaml", &pod)]);
        assert_eq!(proposed(&scene, "a lists /data"), [""; 0], "{path}");
    }
}

#[test]
fn without_a_policy_the_level_of_a_new_file_is_open() {
    let (scene, compose) = two(SHARED, "");
    let scene = scene.replace(&format!("{{ policy: '{POLICY}' }}"), "enforcing");
    let ends = rehearsed(
        scene_with(&scene, &[("compose.yaml", &compose)]),
        &["a creates /data/x", "b reads /data/x", "a reads /data/x"],
    );
    // Policies say for each class whether a new file has the level of its directory.
    assert_eq!(ends[..2], ["allowed", "depends"]);
}

#[test]
fn labels_by_mount_options() {
    let with = |filesystem: &str, options: &str, label: &str| {
        staged_with(
            &format!(
                "scene: 1\nhost: {{ selinux: {{ policy: '{POLICY}' }} }}\nvolumes:\n  v:\n    filesystem: {filesystem}\n    options: [{options}]\n    \
                 tree:\n      - {{ path: /, kind: dir, owner: '7101:7101', mode: '0755'{label} }}\n      \
                 - {{ path: /f, owner: '7101:7101', mode: '0644'{label} }}\n\
                 containers:\n  - {{ name: a, user: '7101:7101', label: 'system_u:system_r:container_t:s0', mounts: [{{ volume: v, at: \
                 /data }}] }}\n"
            ),
            &[],
        )
    };
    let var = ", label: 'system_u:object_r:var_t:s0'";
    let files = SHARED;
    // The root has the option's label, what is in it its own.
    let root = with("ext4", &format!("'rootcontext={files}'"), var);
    assert_eq!(verdict(&root, "a lists /data"), "allowed");
    assert_eq!(
        verdict(&root, "a writes /data/f"),
        "label: container_t:s0 may not write var_t:s0 (class file): no rule allows write"
    );
    // Where the policy labels by paths, inodes take after the file system.
    let share = with("vfat", &format!("'fscontext={files}'"), "");
    assert_eq!(verdict(&share, "a reads /data/f"), "allowed");
    // It says whether anything labelled so may be made there.
    let own = with("ext4", "'fscontext=system_u:object_r:var_t:s0'", &format!(", label: '{files}'"));
    assert!(
        verdict(&own, "a creates /data/x").contains("may not associate var_t:s0"),
        "{}",
        verdict(&own, "a creates /data/x")
    );
    // What has no attribute is told of no inode here.
    let rest = with("ext4", &format!("'defcontext={files}'"), "");
    assert!(verdict(&rest, "a lists /data").starts_with("depends on the SELinux labels of"));
    assert_eq!(
        asked(&with("ext4", "'defcontext=u:r:t:s0'", &format!(", label: '{files}'")), "a lists /data")
            .outcome,
        Outcome::Allowed
    );
}
