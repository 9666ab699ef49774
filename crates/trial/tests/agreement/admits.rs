//! Whom a path is said to let in, tried by someone who is just that, on the kernel.

use std::sync::Arc;

use mivask_core::act::{Act, Verb};
use mivask_core::caps::CapabilitySet;
use mivask_core::credentials::Credentials;
use mivask_core::held::Held;
use mivask_core::ids::{KernelGid, KernelUid, UserNamespace};
use mivask_core::mode::Mode;
use mivask_core::observed::Observed;
use mivask_core::question::{Column, Condition, admissions};
use mivask_core::stage::{Actor, Stage};
use mivask_kernel::{Bench, Choice, KernelError, unavailable};

use crate::support::{skipped, stage_of};

const WORLD: &str = r#"
scene: 1
volumes:
  v:
    filesystem: tmpfs
    tree:
      - { path: /, kind: dir, owner: "0:0", mode: 0755 }
      - { path: /two, kind: dir, owner: "0:500", mode: 0710 }
      - { path: /two/groups, owner: "7:600", mode: 0640 }
      - { path: /but, owner: "7:500", mode: 0604 }
      - { path: /acl, owner: "7:500", mode: 0640, acl: "user:8:rw-,group:600:-w-,mask::rw-" }
      - { path: /drop, kind: dir, owner: "0:500", mode: 1770 }
      - { path: /drop/theirs, owner: "7:600", mode: 0600 }
      - { path: /open, kind: dir, owner: "7:500", mode: 2775 }
      - { path: /open/run, owner: "7:500", mode: 0750, content: program }
      - { path: /shut, kind: dir, owner: "7:7", mode: 0000 }
containers:
  - { name: a, user: "9:9", no-new-privileges: true, mounts: [{ volume: v, at: /v }] }
"#;

/// A process that meets `condition` and nothing more; no one in particular where it names nothing.
fn somebody(condition: Option<&Condition>) -> Credentials {
    let held = condition.into_iter().flat_map(|condition| &condition.capabilities);
    let held = held.fold(CapabilitySet::EMPTY, |set, capability| set.with(*capability));
    let groups = condition.map(|condition| condition.groups.clone()).unwrap_or_default();
    Credentials {
        real: None,
        fsuid: Held::Id(KernelUid::new(
            condition.and_then(|condition| condition.uid).map_or(4321, |uid| uid.raw()),
        )),
        fsgid: Held::Id(KernelGid::new(4321)),
        groups: groups.into_iter().map(|gid| KernelGid::new(gid.raw())).collect(),
        effective: held,
        permitted: held,
        bounding: held,
        inheritable: CapabilitySet::EMPTY,
        ambient: CapabilitySet::EMPTY,
        umask: Mode::new(0o022),
        no_new_privileges: true,
        namespace: Arc::new(UserNamespace::initial()),
    }
}

fn verb(to: Column, directory: bool) -> (Verb, &'static [u8]) {
    match (to, directory) {
        (Column::Create | Column::Write, true) => (Verb::Creates(Mode::new(0o666)), b"/new"),
        (Column::Create, false) => (Verb::Creates(Mode::new(0o666)), b""),
        (Column::Read, false) => (Verb::Reads, b""),
        (Column::Write, false) => (Verb::Writes, b""),
        (Column::Delete, true) => (Verb::RemovesDirectory, b""),
        (Column::Delete, false) => (Verb::Deletes, b""),
        (Column::Read | Column::List, _) => (Verb::Lists, b""),
        (Column::Enter, _) => (Verb::Enters, b""),
        (Column::Run, _) => (Verb::Runs, b""),
    }
}

/// Whether the kernel lets `who` do it.
fn lets_in(bench: &Bench, stage: &Stage, actor: &Actor, who: Credentials, act: &Act) -> Option<bool> {
    let actor = Actor { credentials: vec![who], ..actor.clone() };
    match bench.attempt(stage, &actor, std::slice::from_ref(act)) {
        Ok(observed) => Some(matches!(observed[0], Observed::Allowed(_))),
        Err(KernelError::Unsupported(_)) => None,
        Err(error) => panic!("{act}: {error}"),
    }
}

#[test]
fn every_condition_lets_in_and_nobody_else_comes() {
    if let Some(reason) = unavailable() {
        return skipped("admissions", &reason);
    }
    let (stage, bench) = (stage_of(WORLD), Bench::new(Choice::AsTold).unwrap());
    let actor = &stage.actors[0];
    let (mut conditions, mut excepted) = (0, 0);
    for (path, directory) in [
        ("/v/two/groups", false),
        ("/v/but", false),
        ("/v/acl", false),
        ("/v/drop/theirs", false),
        ("/v/drop", true),
        ("/v/open", true),
        ("/v/open/run", false),
        ("/v/shut", true),
    ] {
        for to in Column::ALL {
            let makes_sense = match to {
                Column::List | Column::Enter | Column::Create => directory,
                Column::Run | Column::Read | Column::Write => !directory,
                Column::Delete => true,
            };
            if !makes_sense {
                continue;
            }
            let found = admissions(&stage, &[actor], path.as_bytes(), to).remove(0);
            let (verb, below) = verb(to, directory);
            let act = Act {
                actor: "a".to_owned(),
                verb,
                path: [path.as_bytes(), below].concat(),
                expectation: None,
            };
            let tried = |who| lets_in(&bench, &stage, actor, who, &act).unwrap();
            assert_eq!(tried(somebody(None)), found.anybody, "{act}: anybody");
            for condition in &found.conditions {
                assert!(tried(somebody(Some(condition))), "{act}: {condition:?}");
                conditions += 1;
            }
            for condition in &found.except {
                assert!(!tried(somebody(Some(condition))), "{act}: all but {condition:?}");
                excepted += 1;
            }
        }
    }
    println!("{conditions} conditions let in and {excepted} exceptions keep out on the kernel");
    assert!(conditions > 40 && excepted > 0, "{conditions} {excepted}");
}
