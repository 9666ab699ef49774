//! Verdicts about a volume whose entries stand for many: each is what a single question about it says.

mod fixtures;

use std::collections::BTreeMap;

use fixtures::read;
use mivask_core::prepare;
use mivask_core::question::{Cell, Column, access};
use mivask_core::settle::Outcome;
use mivask_core::tree::{InodeId, Tree};
use mivask_core::verdicts::{Known, Verdict, verdicts};

const SCENE: &str = "scene: 1
volumes:
  v:
    filesystem: ext4
    tree:
      - { path: /, kind: dir, owner: '7101:7200', mode: '0775' }
      - { path: /open, kind: dir, owner: '7101:7200', mode: '2775' }
      - { path: /open/a, owner: '7102:7200', mode: '0640' }
      - { path: /open/b, owner: '7101:7200', mode: '0600', acl: 'user:7103:r--' }
      - { path: /open/job, owner: '7101:7200', mode: '0750', content: program }
      - { path: /shut, kind: dir, owner: '7101:7200', mode: '0700' }
      - { path: /shut/c, owner: '7102:7200', mode: '0666' }
      - { path: /shut/in, kind: dir, owner: '7102:7200', mode: '0777' }
      - { path: /shut/in/d, owner: '7102:7200', mode: '0666' }
      - { path: /sticky, kind: dir, owner: '0:0', mode: '1777' }
      - { path: /sticky/e, owner: '7102:7200', mode: '0666' }
      - { path: /link, kind: link, target: open/a, owner: '7101:7200' }
containers:
  - { name: one, user: '7101:7200', mounts: [{ volume: v, at: /data }] }
  - { name: two, user: '7102:7200', mounts: [{ volume: v, at: /data }] }
  - { name: three, user: '7103:7300', mounts: [{ volume: v, at: /data, read-only: true }] }
  - { name: root, user: '0:0', mounts: [{ volume: v, at: /data/v }, { volume: v, at: /part, sub-path: shut }] }
  - { name: somebody, mounts: [{ volume: v, at: /data }] }
  - { name: twin, user: '7101:7200', mounts: [{ volume: v, at: /elsewhere }] }
  - { name: reader, user: '7101:7200', mounts: [{ volume: v, at: /data, read-only: true }] }
  - { name: runner, user: '7101:7200', mounts: [{ volume: v, at: /data, options: [noexec] }] }
  - { name: member, user: '7101:7200', groups: [7300], mounts: [{ volume: v, at: /data }] }
  - { name: able, user: '0:0', capabilities: { drop: [ALL], add: [DAC_READ_SEARCH] }, mounts: [{ volume: v, at: /data }] }
  - { name: stranger, user: '9001:9001', mounts: [{ volume: v, at: /data }] }
  - { name: another, user: '9002:9002', groups: [9003], mounts: [{ volume: v, at: /data }] }
  - { name: by-acl, user: '7103:9002', mounts: [{ volume: v, at: /data }] }
  - { name: mapped, user: '0:0', user-namespace: { uids: ['0 7101 10'], gids: ['0 7200 10'] }, mounts: [{ volume: v, at: /data }] }
";

/// Where each inode is, below the root of what shows.
fn paths(tree: &Tree, root: InodeId) -> BTreeMap<InodeId, Vec<u8>> {
    let mut all = BTreeMap::from([(root, Vec::new())]);
    let mut pending = vec![root];
    while let Some(directory) = pending.pop() {
        for (name, id) in tree.children(directory) {
            all.insert(id, [&all[&directory], &b"/"[..], name].concat());
            pending.push(id);
        }
    }
    all
}

#[test]
fn each_is_what_a_single_question_says() {
    let (scene, said) = read("scene.yaml", &[("scene.yaml", SCENE)]);
    assert!(!said.iter().any(|one| one.starts_with("error")), "{said:?}");
    let stage = prepare::stage(&scene);
    let mut compared = 0;
    let known = Known::default();
    for actor in stage.actors.iter() {
        for (number, mount) in actor.mounts.iter().filter(|(_, mount)| mount.root.is_some()) {
            let source = mount.variants[0].source;
            if &*stage.source(source).facts.name != "volume v" {
                continue;
            }
            let paths = paths(&stage.source(source).tree, mount.root.unwrap());
            let judged = verdicts(&stage, actor, &|one| one == source, &Known::default());
            // What is known of others already is the same.
            assert_eq!(verdicts(&stage, actor, &|one| one == source, &known), judged, "{}", actor.name);
            let judged = judged.into_iter().find(|one| one.mount == number).unwrap();
            let told: Vec<Verdict> = judged.root.into_iter().chain(judged.below.unwrap().to_vec()).collect();
            assert_eq!(told.len(), paths.len(), "{}", actor.name);
            for one in told {
                let path = [&*mount.facts.at, &paths[&one.inode]].concat();
                let row = access(&stage, actor, &path);
                // Of a link a single question is about what it points to, but for its name.
                let link = paths[&one.inode].ends_with(b"/link");
                for column in Column::ALL.into_iter().filter(|column| !link || *column == Column::Delete) {
                    let alone = match row.cells.of(column) {
                        None => Cell::Void,
                        Some(Outcome::Allowed) => Cell::Allowed,
                        Some(Outcome::Denied(Some(errno))) => Cell::Denied(*errno),
                        Some(Outcome::Denied(None) | Outcome::Depends | Outcome::NeverRuns(_)) => Cell::Open,
                    };
                    let shown = String::from_utf8_lossy(&path).into_owned();
                    assert_eq!(
                        one.endings.of(column).cell,
                        alone,
                        "{} {} {shown}",
                        actor.name,
                        column.word()
                    );
                    compared += 1;
                }
                let shut = paths.iter().find(|(_, path)| path.ends_with(b"/shut")).map(|(id, _)| *id);
                let below = paths[&one.inode].starts_with(b"/shut/");
                let kept_out =
                    ["two", "three", "stranger", "another", "by-acl"].contains(&&*actor.name) && below;
                assert_eq!(one.barrier, shut.filter(|_| kept_out), "{} {path:?}", actor.name);
            }
        }
    }
    assert!(compared > 700, "{compared}");
}
