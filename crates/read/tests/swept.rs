//! A sweep of what nobody knows in full says what single questions say, entry by entry: never more.

use std::path::Path;

use mivask_core::mode::FileKind;
use mivask_core::prepare;
use mivask_core::question::{AccessRow, Cell, Column, Event, Swept, access, follow};
use mivask_core::scene::Scene;
use mivask_core::settle::Outcome;
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

/// How many cells of what `scene` describes are as single questions have them, open, and usual.
fn compared(name: &str, scene: &Scene) -> (usize, usize, usize) {
    let stage = prepare::stage(scene);
    let (mut all, mut open, mut usual) = (0, 0, 0);
    let mut wrong: Vec<String> = Vec::new();
    for actor in stage.actors.iter().filter(|actor| actor.credentials.len() == 1) {
        let starts = actor.mounts.iter().map(|(_, mount)| mount.facts.at.to_vec());
        for start in starts {
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
