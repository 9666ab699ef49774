//! What an act leaves on the disk: the model carries it out, the kernel does it, and every inode is held beside the other.

use std::collections::BTreeMap;
use std::os::unix::ffi::OsStrExt;
use std::path::PathBuf;

use fastrand::Rng;
use mivask_core::acl::Acl;
use mivask_core::act::{Act, parse_act};
use mivask_core::carry::{Carried, perform};
use mivask_core::mode::{FileKind, Mode};
use mivask_core::observed::Observed;
use mivask_core::settle::Outcome;
use mivask_core::stage::Stage;
use mivask_core::tree::{InodeId, Tree};
use mivask_kernel::{Bench, Choice, KernelError, Shown, unavailable};
use mivask_trial::scenario::{Kind, generate, random_act};

use crate::support::{skipped, stage_of};

/// What can be compared of one inode, last whether it has file capabilities; the mode of a link means nothing.
type Facts = (FileKind, u32, u32, Option<Mode>, Option<Acl>, bool);

fn of_tree(tree: &Tree) -> BTreeMap<PathBuf, Facts> {
    let mut all = BTreeMap::new();
    let mut pending: Vec<(PathBuf, InodeId)> = vec![(PathBuf::new(), Tree::ROOT)];
    while let Some((path, id)) = pending.pop() {
        for (name, child) in tree.children(id) {
            pending.push((path.join(std::ffi::OsStr::from_bytes(name)), child));
        }
        let inode = tree.inode(id);
        let mode = (inode.kind != FileKind::Link).then_some(inode.stored_mode());
        all.insert(
            path,
            (
                inode.kind,
                inode.stored_owner().uid.raw(),
                inode.stored_owner().gid.raw(),
                mode,
                tree.acl(id).cloned(),
                tree.capabilities(id).is_some(),
            ),
        );
    }
    all
}

fn of_kernel(shown: &[Shown], source: mivask_core::mount::SourceId) -> BTreeMap<PathBuf, Facts> {
    let own = shown.iter().filter(|one| one.source == source);
    own.map(|one| {
        let mode = (one.kind != FileKind::Link).then_some(one.mode);
        let acl = one.acl.clone().filter(|acl| !acl.is_minimal());
        let id = |id: Option<u32>| id.unwrap_or(u32::MAX);
        let (uid, gid) = (id(one.uid.map(|uid| uid.raw())), id(one.gid.map(|gid| gid.raw())));
        (one.path.clone(), (one.kind, uid, gid, mode, acl, one.is_capable))
    })
    .collect()
}

/// What both leave, for every source the kernel built; `None` where the act is not to be compared.
fn agrees(bench: &Bench, stage: &Stage, act: &Act, scene: &dyn Fn() -> String) -> Option<()> {
    let actor = stage.actor(&act.actor).expect("the actor of an act");
    let mut after = stage.clone();
    let performed = perform(&mut after, act).expect("the actor of an act");
    if !matches!(performed.answer.outcome, Outcome::Allowed | Outcome::Denied(Some(_))) {
        return None;
    }
    assert!(!matches!(performed.carried, Carried::Open(_)), "{act}: {:?}", performed.carried);
    let (observed, shown) = match bench.aftermath(stage, actor, act) {
        Ok(done) => done,
        Err(KernelError::Unsupported(_)) => return None,
        Err(error) => panic!("{act}: {error}"),
    };
    let allowed = matches!(observed, Observed::Allowed(_));
    assert_eq!(allowed, performed.answer.outcome == Outcome::Allowed, "{}: {observed:?}", scene());
    let mut sources: Vec<_> = shown.iter().map(|one| one.source).collect();
    sources.dedup();
    for source in sources {
        let (model, kernel) = (of_tree(&after.source(source).tree), of_kernel(&shown, source));
        let before = of_tree(&stage.source(source).tree);
        let differs: Vec<_> = model
            .keys()
            .chain(kernel.keys())
            .filter(|path| model.get(*path) != kernel.get(*path))
            .map(|path| (path, before.get(path), model.get(path), kernel.get(path)))
            .collect();
        assert!(differs.is_empty(), "{}: path, before, model, kernel: {differs:?}", scene());
    }
    allowed.then_some(())
}

/// How many random acts that succeed are compared on each file system.
const CHANGES: usize = 250;

#[test]
fn what_random_acts_leave_is_what_the_kernel_leaves() {
    if let Some(reason) = unavailable() {
        return skipped("aftermath", &reason);
    }
    let bench = Bench::new(Choice::AsTold).unwrap();
    for kind in [Kind::Tmpfs, Kind::Overlay] {
        let mut rng = Rng::with_seed(0x7300);
        let mut compared = 0;
        while compared < CHANGES {
            let scenario = generate(&mut rng, kind);
            let stage = scenario.stage().unwrap();
            for _ in 0..12 {
                let act = random_act(&mut rng, &scenario);
                let changes = !act.verb.only_looks() || act.verb.writes();
                let scene = || scenario.with_comments(&act, &[]);
                if changes && agrees(&bench, &stage, &act, &scene).is_some() {
                    compared += 1;
                }
            }
        }
        println!("{compared} changes on {} leave what the kernel leaves", kind.name());
    }
}

/// One act after the other, on the stage that the ones before left.
const DAY: &str = "
gauge creates /data/a
gauge makes-directory /data/d mode 0777
gauge creates /data/d/f mode 0600
gauge links /data/a to /data/d/b
gauge renames /data/d to /data/e
gauge renames /data/a to /data/e/f
gauge sets-mode g+w on /data/e/b
gauge points /data/p at e/b
gauge overwrites /data/p
gauge sets-mode 2770 on /data/e
gauge makes-directory /data/e/g
gauge makes-fifo /data/e/g/q
gauge deletes /data/p
gauge deletes /data/e/g/q
gauge removes-directory /data/e/g
gauge sets-acl user:7500:rwx on /data/e
root sets-owner 7500:7400 on /data/e/b
root writes /data/suid
gauge appends /data/own
gauge updates /data/grouped
gauge extends /data/capable
root tags /data/capable with security.capability
root sets-owner : on /data/capable
root sets-owner : on /data/other
root writes /data/third
root sets-mode 0600 on /data/fourth
root overwrites /data/fourth
root truncates /data/suid
root sets-owner 3:4 on /data/suid
root makes-directory /shared/x
gauge creates /shared/x/y
gauge extends /data/e/new
";

const WORLD: &str = r#"
scene: 1
volumes:
  data:
    filesystem: tmpfs
    tree:
      - { path: /, kind: dir, owner: "7101:7200", mode: 2775 }
      - { path: /suid, owner: "0:7200", mode: 6755, content: program }
      - { path: /own, owner: "7101:7200", mode: 6755, content: program }
      - { path: /grouped, owner: "7101:7300", mode: 2764, content: program }
      - { path: /capable, owner: "7101:7200", mode: 4755, content: program, capabilities: "NET_RAW=ep" }
      - { path: /other, owner: "0:0", mode: 0755, content: program, capabilities: "NET_RAW=ep" }
      - { path: /third, owner: "0:0", mode: 0755, content: program, capabilities: "NET_RAW=ep" }
      - { path: /fourth, owner: "0:0", mode: 0755, content: program, capabilities: "NET_RAW=ep" }
  shared:
    filesystem: tmpfs
    tree:
      - { path: /, kind: dir, owner: "0:0", mode: 0777, default-acl: "user:7101:rwx,group::r-x,mask::rwx,other::---" }
containers:
  - name: gauge
    user: "7101:7200"
    groups: [7300]
    umask: "0027"
    mounts: [{ volume: data, at: /data }, { volume: shared, at: /shared }]
  - name: root
    user: "0:0"
    effective-capabilities: all
    mounts: [{ volume: data, at: /data }, { volume: shared, at: /shared }]
images: {}
"#;

#[test]
fn a_day_of_acts_leaves_what_the_kernel_leaves_at_every_step() {
    let mut stage = stage_of(WORLD);
    let bench = match unavailable() {
        Some(reason) => {
            skipped("aftermath of a day", &reason);
            None
        }
        None => Some(Bench::new(Choice::AsTold).unwrap()),
    };
    for line in DAY.lines().filter(|line| !line.is_empty()) {
        let act = parse_act(line).unwrap();
        if let Some(bench) = &bench {
            agrees(bench, &stage, &act, &|| act.to_string())
                .unwrap_or_else(|| panic!("{act} was not compared, or not allowed"));
        }
        let performed = perform(&mut stage, &act).unwrap();
        assert_ne!(performed.carried, Carried::Nothing, "{act}: {:?}", performed.answer.outcome);
    }
}
