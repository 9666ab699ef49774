//! A sweep of what nobody knows in full says what single questions say, entry by entry: never more.

use std::path::Path;

use mivask_core::mode::FileKind;
use mivask_core::prepare;
use mivask_core::question::{
    AccessRow, Cell, Column, Event, Overview, Swept, access, follow, overview, summed,
};
use mivask_core::scene::Scene;
use mivask_core::settle::Outcome;
use mivask_core::stage::{Actor, Stage};
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{Disk, Origin, read_described};

/// One claim of a database, of which only the files are given: whether the filesystem group reaches it is open.
const POD: &str = "\
apiVersion: v1
kind: Pod
metadata: { name: tide }
spec:
  securityContext: { runAsUser: 1000, runAsGroup: 1000, fsGroup: 2000 }
  containers:
    - name: gauge
      image: tides/gauge:1
      volumeMounts:
        - { name: state, mountPath: /state }
        - { name: inner, mountPath: /state/d/inner }
        - { name: side, mountPath: /side }
        - { name: secret, mountPath: /etc/tide }
  volumes:
    - { name: state, persistentVolumeClaim: { claimName: state } }
    - { name: inner, persistentVolumeClaim: { claimName: inner } }
    - { name: side, persistentVolumeClaim: { claimName: side } }
    - { name: secret, secret: { secretName: tide, optional: true } }
";

/// Directories and files that the group opens, and those that it does not; links from one claim to another.
const SCENE: &str = "\
scene: 1
workloads: [pod.yaml]
volumes:
  state: { tree: &tree [
    { path: /, kind: dir, owner: '0:0', mode: '0755' },
    { path: /d, kind: dir, owner: '0:0', mode: '0700' },
    { path: /d/inner, kind: dir, owner: '0:0', mode: '0755' },
    { path: /d/f, owner: '0:0', mode: '0600' },
    { path: /f, owner: '0:0', mode: '0600' },
    { path: /mine, owner: '1000:1000', mode: '0600' },
    { path: /x.sh, owner: '0:0', mode: '0700', script: /side/f },
    { path: /there, kind: link, target: /side/d/f },
    { path: /in, kind: link, target: /state/d/inner/f } ] }
  inner: { tree: *tree }
  side: { tree: *tree }
";

fn scene(folder: &Path, name: &str) -> Scene {
    let mut diagnostics = Diagnostics::default();
    let described = read_described(&Origin::File(folder.join(name)), &Disk, &mut diagnostics);
    described.unwrap_or_else(|error| panic!("{name}: {error}")).scene
}

/// What both say of one column.
fn compare(swept: &Swept<'_>, row: &AccessRow, column: Column) -> bool {
    let ending = swept.endings.of(column);
    let same = match (ending.cell, row.cells.of(column)) {
        (Cell::Void, _) => true,
        // A question follows links, a sweep mentions the link itself.
        (_, None) => swept.kind == FileKind::Link,
        (Cell::Open, Some(Outcome::Depends | Outcome::Denied(None))) => true,
        (Cell::Allowed, Some(Outcome::Allowed)) => true,
        (Cell::Denied(errno), Some(Outcome::Denied(Some(other)))) => errno == *other,
        (Cell::Open | Cell::Allowed | Cell::Denied(_), _) => false,
    };
    let usual = match (ending.usually(), row.usually.of(column)) {
        (Some(one), Some(other)) => one == *other,
        // Two errnos are one cell there.
        (Some(_), None) => matches!(row.cells.of(column), Some(Outcome::Denied(None))),
        (None, _) => true,
    };
    same && usual
}

/// What is alike is looked at once, and the sums are the same.
fn same_sums(stage: &Stage, actor: &Actor, start: &[u8]) {
    let in_order = |found: Overview| {
        let mut shares: Vec<_> = found.shares.iter().map(|share| format!("{share:?}")).collect();
        shares.sort();
        let blockers: Vec<_> = found.blockers.iter().map(|blocker| format!("{blocker:?}")).collect();
        (found.entries, shares, (found.blocking, blockers), found.rests_on)
    };
    let each = overview(stage, actor, 0, start, |_| true, |_| ()).map(in_order);
    assert_eq!(each, summed(stage, actor, 0, start, |_| true).map(in_order), "{start:?}");
}

/// How many cells of what `scene` describes are as single questions have them, open, and usual.
fn compared(name: &str, scene: &Scene) -> (usize, usize, usize) {
    let stage = prepare::stage(scene);
    let (mut all, mut open, mut usual) = (0, 0, 0);
    let mut wrong: Vec<String> = Vec::new();
    for actor in stage.actors.iter().filter(|actor| actor.credentials.len() == 1) {
        let starts = actor.mounts.iter().map(|(_, mount)| mount.facts.at.to_vec());
        for start in starts {
            same_sums(&stage, actor, &start);
            // What cannot be swept has nothing to compare.
            let _ = follow(&stage, actor, 0, &start, |event| {
                let Event::Entry(swept) = event else { return };
                let row = access(&stage, actor, swept.path);
                let columns = if swept.kind == FileKind::Link { &Column::ALL[..2] } else { &Column::ALL };
                for column in columns {
                    if !compare(&swept, &row, *column) {
                        let (ending, path) = (swept.endings.of(*column), String::from_utf8_lossy(swept.path));
                        let (single, usual) = (row.cells.of(*column), row.usually.of(*column));
                        wrong.push(format!("{path} {column:?}: {ending:?}, asked {single:?} {usual:?}"));
                    }
                    all += 1;
                    let ending = swept.endings.of(*column);
                    open += usize::from(ending.cell == Cell::Open);
                    usual += usize::from(ending.usual.is_some());
                }
            });
        }
    }
    assert!(wrong.is_empty(), "{name}: {}\n{}", wrong.len(), wrong.join("\n"));
    (all, open, usual)
}

#[test]
fn a_claim_that_a_group_may_reach_is_swept_under_each_possibility() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("pod.yaml"), POD).unwrap();
    std::fs::write(folder.path().join("scene.yaml"), SCENE).unwrap();
    let (all, open, _) = compared("scene.yaml", &scene(folder.path(), "scene.yaml"));
    assert!(all > 500 && open > 60, "{all} {open}");
    // The same of claims that are new, and usually reached.
    let claims = "
---
apiVersion: v1
kind: PersistentVolumeClaim
metadata: { name: NAME }
spec: { accessModes: [ReadWriteOnce] }
";
    let all: String = ["state", "inner", "side"].map(|name| claims.replace("NAME", name)).concat();
    std::fs::write(folder.path().join("pod.yaml"), [POD, &all].concat()).unwrap();
    for name in ["scene.yaml", "pod.yaml"] {
        let (_, open, usual) = compared(name, &scene(folder.path(), name));
        assert!(open > 10 && usual > 10, "{name} {open} {usual}");
    }
}

#[test]
fn every_description_of_the_corpus_is_swept_as_it_is_asked() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus");
    let (mut all, mut open) = (0, 0);
    for file in std::fs::read_dir(&folder).unwrap() {
        let name = file.unwrap().file_name().into_string().unwrap();
        let mut diagnostics = Diagnostics::default();
        let Ok(described) = read_described(&Origin::File(folder.join(&name)), &Disk, &mut diagnostics) else {
            continue;
        };
        let (cells, unknown, _) = compared(&name, &described.scene);
        (all, open) = (all + cells, open + unknown);
    }
    assert!(all > 5_000 && open > 100, "{all} {open}");
}

/// Files with labels of all kinds, and some without.
const LABELLED: &str = "\
scene: 1
workloads: [compose.yaml]
host:
  selinux: { policy: POLICY }
  tree: &tree
    - { path: /, kind: dir, owner: '0:0', mode: '0755', label: 'system_u:object_r:root_t:s0' }
    - { path: /home, kind: dir, owner: '0:0', mode: '0755', label: 'system_u:object_r:home_root_t:s0' }
    - { path: /home/ada, kind: dir, owner: '7101:7101', mode: '0755', label: 'unconfined_u:object_r:user_home_t:s0' }
    - { path: /home/ada/f, owner: '7101:7101', mode: '0644', label: 'unconfined_u:object_r:user_home_t:s0' }
    - { path: /srv, kind: dir, owner: '7101:7101', mode: '0755', label: 'system_u:object_r:container_file_t:s0' }
    - { path: /srv/f, owner: '7101:7101', mode: '0644', label: 'system_u:object_r:container_file_t:s0' }
    - { path: /srv/g, owner: '7101:7101', mode: '0644', label: 'system_u:object_r:container_file_t:s0:c1,c2' }
    - { path: /srv/e, owner: '7101:7101', mode: '0755', content: program, label: 'system_u:object_r:etc_t:s0' }
    - { path: /srv/job, owner: '7101:7101', mode: '0755', content: program, label: 'system_u:object_r:logger_exec_t:s0' }
    - { path: /srv/s, owner: '7101:7101', mode: '0755', content: '#!/srv/job', label: 'system_u:object_r:usr_t:s0' }
    - { path: /srv/open, owner: '7101:7101', mode: '0644' }
    - { path: /srv/l, kind: link, target: f, owner: '7101:7101', label: 'system_u:object_r:user_home_t:s0' }
    - { path: /srv/d, kind: dir, owner: '7101:7101', mode: '0700', label: 'system_u:object_r:var_t:s0' }
    - { path: /srv/d/f, owner: '7101:7101', mode: '0600', label: 'system_u:object_r:container_file_t:s0' }
images: { i: { user: '7101:7101' } }
";

#[test]
fn labels_are_swept_as_they_are_asked() {
    let policy = concat!(env!("CARGO_MANIFEST_DIR"), "/../label/tests/policy/containers.33");
    let folder = tempfile::tempdir().unwrap();
    let untold = LABELLED.replace("{ policy: POLICY }", "enforcing");
    std::fs::write(folder.path().join("scene.yaml"), LABELLED.replace("POLICY", policy)).unwrap();
    std::fs::write(folder.path().join("untold.yaml"), untold).unwrap();
    let services = "name: p\nservices:\n  a: { image: i, volumes: ['/srv:/srv', '/home:/home'] }\n  b: { image: i, volumes: \
                    ['/srv:/srv'], security_opt: ['label=level:s0:c1,c2'] }\n  c: { image: i, volumes: ['/home/ada:/home:Z'] }\n  d: { \
                    image: i, privileged: true, volumes: ['/srv:/srv'] }\n";
    std::fs::write(folder.path().join("compose.yaml"), services).unwrap();
    for name in ["scene.yaml", "untold.yaml"] {
        let (all, open, _) = compared(name, &scene(folder.path(), name));
        assert!(all > 150 && open > 10, "{name}: {all} {open}");
    }
}

#[test]
fn the_profile_of_engines_is_swept_as_it_is_asked() {
    let tree = "[{ path: /, kind: dir, owner: '7101:7101', mode: '0755' }, { path: /f, owner: '7101:7101', mode: '0755', content: \
                program }, { path: /d, kind: dir, owner: '7101:7101', mode: '0755' }, { path: /d/f, owner: '0:0', mode: '0600' }, { \
                path: /l, kind: link, target: f, owner: '0:0' }]";
    let services = "name: p\nservices:\n  a: { image: i, volumes: ['v:/sys/class', 'v:/sys/fs', 'v:/srv'] }\n  b: { image: i, privileged: \
                    true, volumes: ['v:/sys/class'] }\nvolumes: { v: { name: v } }\n";
    let open = ["apparmor: enabled", "apparmor: disabled", ""].map(|host| {
        let folder = tempfile::tempdir().unwrap();
        let scene_text = format!(
            "scene: 1\nworkloads: [compose.yaml]\nhost: {{ {host} }}\nimages: {{ i: {{ user: '7101:7101', tree: [{{ path: /, kind: dir, owner: \
             '0:0', mode: '0755' }}] }} }}\nvolumes: {{ v: {{ tree: {tree} }} }}\n"
        );
        std::fs::write(folder.path().join("scene.yaml"), scene_text).unwrap();
        std::fs::write(folder.path().join("compose.yaml"), services).unwrap();
        let (all, open, _) = compared(host, &scene(folder.path(), "scene.yaml"));
        assert!(all > 100, "{all}");
        open
    });
    assert!(open[2] > open[0] + 10, "{open:?}: where nothing is said of the host it depends");
}
