//! The core on its own: a tree, a mount table and credentials are all a decision needs.

use std::sync::Arc;

use mivask_core::act::Verb;
use mivask_core::caps::{Capability, CapabilitySet};
use mivask_core::credentials::Credentials;
use mivask_core::decide::{decide, decide_new_entry};
use mivask_core::explore::{Decision, explore};
use mivask_core::fact::{Provenance, Unknown};
use mivask_core::held::Held;
use mivask_core::ids::{Extent, IdMap, KernelGid, KernelUid, UserNamespace};
use mivask_core::imprint::NewKind;
use mivask_core::mode::Mode;
use mivask_core::mount::{
    Mount, MountFacts, MountFlags, MountOrigin, MountTable, Source, SourceFacts, Variant,
};
use mivask_core::mount_kind::MountKind;
use mivask_core::outcome::Errno::{self, EACCES, ENOENT, EROFS};
use mivask_core::stage::Stage;
use mivask_core::tree::{Certainty, Doubt, Entry, Tree};
use mivask_core::view::{Devices, View};
use mivask_core::witness::Unwatched;

/// A stage whose sources are these trees, and a table with one mount at `/` that shows one of them.
fn staged(trees: Vec<Tree>, flags: MountFlags) -> (Stage, MountTable) {
    let mut stage = Stage::default();
    let variants: Vec<Variant> = trees
        .into_iter()
        .enumerate()
        .map(|(index, tree)| {
            let source = stage.add_source(Source::new(Arc::new(tree), SourceFacts::local("disk")));
            Variant { when: Arc::from(format!("variant {index}")), ..Variant::only(source) }
        })
        .collect();
    let facts = MountFacts {
        question: (variants.len() > 1).then(|| Unknown::new("which variant", "say so")),
        ..MountFacts::plain(b"/", MountKind::Volume, Provenance::rule("test"))
    };
    let root = Some(Tree::ROOT);
    let mut table = MountTable::default();
    table.push(Mount { on: None, variants, root, flags, origin: MountOrigin::Root, facts: Arc::new(facts) });
    (stage, table)
}

fn tree(root: Entry, file: Entry) -> Tree {
    let mut tree = Tree::new(root, Provenance::rule("test"));
    tree.add(Tree::ROOT, b"f", file).expect("the tree is empty");
    tree
}

fn who(uid: u32, gid: u32, effective: CapabilitySet, namespace: UserNamespace) -> Credentials {
    Credentials {
        real: None,
        fsuid: Held::Id(KernelUid::new(uid)),
        fsgid: Held::Id(KernelGid::new(gid)),
        groups: [].into(),
        effective,
        permitted: effective,
        bounding: CapabilitySet::ALL,
        inheritable: CapabilitySet::EMPTY,
        ambient: CapabilitySet::EMPTY,
        umask: Mode::new(0o022),
        no_new_privileges: false,
        namespace: Arc::new(namespace),
    }
}

fn answer(
    stage: &Stage,
    table: &MountTable,
    who: &Credentials,
    verb: Verb,
    path: &[u8],
) -> Result<(), Errno> {
    let view = View::new(&stage.storage, table, who, "x", Devices::Listed);
    let mut unwatched = Unwatched::default();
    let verdict = decide(&view, &verb, path, &mut unwatched).map(drop);
    assert!(!unwatched.met_unknown, "everything is known");
    verdict
}

#[test]
fn a_decision_takes_three_lines() {
    let (stage, table) =
        staged(vec![tree(Entry::directory(0, 0, 0o755), Entry::file(7, 8, 0o640))], MountFlags::default());
    let owner = who(7, 7, CapabilitySet::EMPTY, UserNamespace::initial());
    assert_eq!(answer(&stage, &table, &owner, Verb::Writes, b"/f"), Ok(()));

    let other = who(9, 9, CapabilitySet::EMPTY, UserNamespace::initial());
    assert_eq!(answer(&stage, &table, &other, Verb::Reads, b"/f"), Err(EACCES));
    assert_eq!(answer(&stage, &table, &other, Verb::Reads, b"/g"), Err(ENOENT));
}

#[test]
fn flags_of_the_root_mount_count() {
    let (stage, table) =
        staged(vec![tree(Entry::directory(7, 7, 0o755), Entry::file(7, 7, 0o644))], MountFlags::READ_ONLY);
    let owner = who(7, 7, CapabilitySet::EMPTY, UserNamespace::initial());
    assert_eq!(answer(&stage, &table, &owner, Verb::Writes, b"/f"), Err(EROFS));
    assert_eq!(answer(&stage, &table, &owner, Verb::Deletes, b"/f"), Err(EROFS));
}

/// DAC_OVERRIDE counts only where owner and group are both mapped (docs/facts/runtimes.md section 7).
#[test]
fn in_a_user_namespace_both_ids_must_be_mapped() {
    let map = || IdMap::new(vec![Extent { inside: 0, outside: 100_000, count: 65_536 }]);
    let namespace = || UserNamespace { uids: map(), gids: map() };
    let set = CapabilitySet::EMPTY.with(Capability::DacOverride);
    let root = who(100_000, 100_000, set, namespace());
    let rows = [
        (Entry::file(100_405, 100_405, 0o600), Ok(())),
        (Entry::file(100_405, 5, 0o600), Err(EACCES)),
        (Entry::file(5, 100_405, 0o600), Err(EACCES)),
        (Entry::file(5, 5, 0o606), Ok(())),
        (Entry::file(5, 100_000, 0o060), Ok(())),
    ];
    for (file, expected) in rows {
        let what = format!("{}:{} {}", file.uid, file.gid, file.mode);
        let (stage, table) = staged(vec![tree(Entry::directory(0, 0, 0o755), file)], MountFlags::default());
        assert_eq!(answer(&stage, &table, &root, Verb::Updates, b"/f"), expected, "{what}");
    }
}

#[test]
fn a_new_inode_is_stored_with_the_kernels_ids_and_seen_with_the_inside_ones() {
    let map = || IdMap::new(vec![Extent { inside: 0, outside: 100_000, count: 65_536 }]);
    let (stage, table) =
        staged(vec![tree(Entry::directory(5, 5, 0o777), Entry::file(0, 0, 0))], MountFlags::default());
    let who = who(101_000, 100_000, CapabilitySet::EMPTY, UserNamespace { uids: map(), gids: map() });
    let view = View::new(&stage.storage, &table, &who, "x", Devices::Listed);
    let effect = decide_new_entry(&view, NewKind::File, Mode::new(0o666), b"/", &mut Unwatched::default());
    let imprint = effect.expect("the directory is open").imprint.expect("something is created");
    assert_eq!(imprint.uid.map(|uid| uid.raw()), Some(1000));
    assert_eq!(imprint.disk_uid.map(|uid| uid.raw()), Some(101_000));
    assert_eq!(imprint.mode, Some(Mode::new(0o644)));
}

/// Two possible sources that differ where it matters give two endings, and one where it does not.
#[test]
fn possible_sources_are_tried_where_they_matter() {
    let open = tree(Entry::directory(0, 0, 0o755), Entry::file(0, 0, 0o644));
    let closed = tree(Entry::directory(0, 0, 0o755), Entry::file(0, 0, 0o600));
    let (stage, table) = staged(vec![open, closed], MountFlags::default());
    let other = who(9, 9, CapabilitySet::EMPTY, UserNamespace::initial());
    let view = View::new(&stage.storage, &table, &other, "x", Devices::Listed);
    let reads = explore(|w| decide(&view, &Verb::Reads, b"/f", w));
    let endings: Vec<bool> = reads.decision.endings().iter().map(|ending| ending.verdict.is_ok()).collect();
    assert_eq!(endings, [true, false]);
    let writes = explore(|w| decide(&view, &Verb::Writes, b"/f", w));
    assert_eq!(writes.decision, Decision::Settled(Err(EACCES)));
}

/// An inode of unknown owner and mode is asked about; one below a directory of unknown contents too.
#[test]
fn what_is_unknown_is_asked_and_never_taken() {
    let unknown = Unknown::new("what the disk holds", "tell");
    let doubt = Doubt::new(Certainty::Known, Certainty::Unknown(unknown.clone()));
    let mut file = Entry::file(0, 0, 0);
    file.doubt = Some(Doubt::new(Certainty::Unknown(unknown), Certainty::Known));
    let (stage, table) =
        staged(vec![tree(Entry::directory(0, 0, 0o755).doubting(doubt), file)], MountFlags::default());
    let other = who(9, 9, CapabilitySet::EMPTY, UserNamespace::initial());
    let view = View::new(&stage.storage, &table, &other, "x", Devices::Listed);
    let verdicts = |path: &[u8]| {
        let explored = explore(|w| decide(&view, &Verb::Reads, path, w));
        explored.decision.endings().into_iter().map(|ending| ending.verdict.map(drop)).collect::<Vec<_>>()
    };
    assert_eq!(verdicts(b"/f"), [Ok(()), Err(EACCES)]);
    assert_eq!(verdicts(b"/g"), [Ok(()), Err(EACCES), Err(ENOENT)]);
}
