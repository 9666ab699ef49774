//! The decision core over any tree, mounts, identity and act: it never panics, watching changes nothing, and more
//! capabilities never deny.

#![no_main]

use std::sync::Arc;

use arbitrary::{Arbitrary, Unstructured};
use libfuzzer_sys::fuzz_target;
use mivask_core::acl::AclText;
use mivask_core::act::{Owner, Verb};
use mivask_core::caps::CapabilitySet;
use mivask_core::decide::decide;
use mivask_core::explore::{Decision, explore};
use mivask_core::fact::Provenance;
use mivask_core::credentials::Credentials;
use mivask_core::held::Held;
use mivask_core::ids::{DiskGid, DiskUid, Extent, IdMap, KernelGid, KernelUid, MountIds, UserNamespace};
use mivask_core::mode::{FileKind, Mode, ModeChange};
use mivask_core::mount::{Mount, MountFacts, MountFlags, MountOrigin, MountTable, Source, SourceFacts, Variant};
use mivask_core::personality::Personality;
use mivask_core::mount_kind::MountKind;
use mivask_core::outcome::Errno;
use mivask_core::storage::{Settings, Storage};
use mivask_core::tree::{Content, Entry, InodeId, Marks, Tree};
use mivask_core::view::{Devices, View};
use mivask_core::witness::Unwatched;

#[derive(Debug, Arbitrary)]
struct World {
    entries: Vec<Inode>,
    side: Vec<Inode>,
    settings: [u8; 4],
    read_only: bool,
    filesystem: u8,
    flags: [u8; 2],
    maps: [u8; 2],
    who: Who,
    acts: Vec<(u8, u16, [u8; 4], [u8; 4])>,
}

#[derive(Debug, Arbitrary)]
struct Inode {
    parent: u8,
    name: u8,
    kind: u8,
    mode: u16,
    uid: u8,
    gid: u8,
    acl: Option<[u8; 4]>,
    marks: u8,
    target: [u8; 3],
}

#[derive(Debug, Arbitrary)]
struct Who {
    uid: u8,
    gid: u8,
    groups: [bool; 4],
    capabilities: u64,
    bounding: u64,
    umask: u16,
    no_new_privileges: bool,
    namespace: u8,
}

const IDS: [u32; 4] = [0, 8101, 8102, 8900];
const NAMES: [&[u8]; 5] = [b"a", b"b", b"c", b"..", b"."];

fn id(byte: u8) -> u32 {
    IDS[usize::from(byte) % IDS.len()]
}

fn path(bytes: &[u8]) -> Vec<u8> {
    let mut path = Vec::new();
    for byte in bytes {
        path.push(b'/');
        path.extend_from_slice(NAMES.get(usize::from(*byte) % 6).copied().unwrap_or_default());
    }
    path
}

fn acl(bytes: [u8; 4]) -> AclText {
    let bits = |byte: u8| ["---", "r--", "-w-", "--x", "rw-", "r-x", "-wx", "rwx"][usize::from(byte) % 8];
    let text = format!(
        "user:{}:{},group:{}:{},mask::{}",
        id(bytes[0]),
        bits(bytes[1]),
        id(bytes[2]),
        bits(bytes[3]),
        bits(bytes[0] >> 2)
    );
    AclText::parse(&text).unwrap_or_default()
}

fn entry(inode: &Inode) -> Entry {
    let kind = FileKind::ALL[usize::from(inode.kind) % FileKind::ALL.len()];
    let mut entry = Entry::new(kind, id(inode.uid), id(inode.gid), Mode::new(inode.mode));
    if let Some(bytes) = inode.acl.filter(|_| kind != FileKind::Link) {
        let mode = entry.mode;
        let whole = acl(bytes).over(mode, |uid| Some(DiskUid::new(uid)), |gid| Some(DiskGid::new(gid)));
        entry.extended.access = whole.clone();
        entry.extended.default = whole.filter(|_| kind == FileKind::Directory);
    }
    for (bit, mark) in [(1, Marks::IMMUTABLE), (2, Marks::APPEND_ONLY), (4, Marks::LOWER)] {
        if inode.marks & bit != 0 {
            entry.marks = entry.marks.with(mark);
        }
    }
    entry.target = path(&inode.target).into();
    entry.content = match inode.marks >> 4 {
        0..8 => Content::Program,
        8 => Content::Empty,
        9 => Content::Script(path(&inode.target).into()),
        _ => Content::Data,
    };
    entry
}

fn tree(inodes: &[Inode]) -> Tree {
    let mut tree = Tree::new(Entry::directory(0, 0, 0o755), Provenance::rule("fuzz"));
    let mut directories = vec![Tree::ROOT];
    for inode in inodes.iter().take(40) {
        let dir = directories[usize::from(inode.parent) % directories.len()];
        let entry = entry(inode);
        let kind = entry.kind;
        if let Ok(made) = tree.add(dir, NAMES[usize::from(inode.name) % 3], entry)
            && kind == FileKind::Directory
        {
            directories.push(made);
        }
    }
    tree
}

fn map(byte: u8) -> IdMap {
    match byte % 4 {
        0 | 1 => IdMap::identity(),
        2 => IdMap::new(vec![Extent { inside: 0, outside: 8101, count: 1 }, Extent { inside: 1, outside: 0, count: 1 }]),
        _ => IdMap::new(vec![Extent { inside: 0, outside: 0, count: 70_000 }]),
    }
}

fn source(storage: &mut Storage, tree: Tree, world: &World) -> mivask_core::mount::SourceId {
    let kinds = ["ext4", "xfs", "overlay", "erofs", "vfat", "tmpfs"];
    let personality = Personality::of(kinds[usize::from(world.filesystem) % kinds.len()]).unwrap_or_default();
    let read_only = world.read_only || personality.is_read_only();
    let facts = SourceFacts { read_only, personality, ..SourceFacts::local("fuzz") };
    storage.add_source(Source::new(Arc::new(tree), facts))
}

fn mount(
    source: mivask_core::mount::SourceId,
    on: Option<(mivask_core::mount::MountId, InodeId)>,
    flags: u8,
    ids: u8,
) -> Mount {
    let words = MountFlags::WORDS.into_iter().enumerate();
    let flags = words.filter(|(bit, _)| flags & 1 << bit != 0);
    let facts = MountFacts {
        ids: MountIds { uids: map(ids), gids: map(ids >> 2) },
        ..MountFacts::plain(b"/a", MountKind::Volume, Provenance::rule("fuzz"))
    };
    Mount {
        on,
        variants: vec![Variant::only(source)],
        root: Some(Tree::ROOT),
        flags: flags.fold(MountFlags::default(), |flags, (_, (flag, _))| flags.with(flag)),
        origin: MountOrigin::Declared,
        facts: Arc::new(facts),
    }
}

fn who(who: &Who) -> Credentials {
    let effective = CapabilitySet::from_bits(who.capabilities);
    let groups = IDS.into_iter().zip(who.groups).filter(|(_, member)| *member);
    Credentials {
        real: None,
        fsuid: Held::Id(KernelUid::new(id(who.uid))),
        fsgid: Held::Id(KernelGid::new(id(who.gid))),
        groups: groups.map(|(gid, _)| KernelGid::new(gid)).collect(),
        effective,
        permitted: effective,
        inheritable: CapabilitySet::EMPTY,
        ambient: CapabilitySet::EMPTY,
        bounding: CapabilitySet::from_bits(who.bounding),
        umask: Mode::new(who.umask & 0o777),
        no_new_privileges: who.no_new_privileges,
        namespace: Arc::new(UserNamespace { uids: map(who.namespace), gids: map(who.namespace >> 2) }),
    }
}

fn verb(number: u8, mode: u16, second: [u8; 4]) -> Verb {
    let mut verb = Verb::ALL[usize::from(number) % Verb::ALL.len()].clone();
    match &mut verb {
        Verb::Creates(asked) | Verb::MakesDirectory(asked) | Verb::MakesFifo(asked) => *asked = Mode::new(mode),
        Verb::Points(path_to)
        | Verb::Links(path_to)
        | Verb::LinksTarget(path_to)
        | Verb::Renames(path_to)
        | Verb::RenamesNew(path_to)
        | Verb::Exchanges(path_to) => *path_to = path(&second),
        Verb::SetsMode(change) => *change = ModeChange::Exact(Mode::new(mode)),
        Verb::SetsOwner(owner) | Verb::SetsLinkOwner(owner) => {
            *owner = Owner { uid: Some(id(second[0])).filter(|_| second[2] & 1 == 0), gid: Some(id(second[1])) };
        }
        Verb::SetsGroup(gid) | Verb::SetsLinkGroup(gid) => *gid = id(second[0]),
        Verb::SetsAcl(text) | Verb::SetsDefaultAcl(text) => *text = acl(second),
        Verb::Tags(name) | Verb::ReadsTag(name) => *name = [&b"user."[..], &b"trusted.x"[..], &b"security.capability"[..]][usize::from(second[0]) % 3].to_vec(),
        _ => {}
    }
    verb
}

fuzz_target!(|data: &[u8]| {
    let Ok(world) = World::arbitrary(&mut Unstructured::new(data)) else { return };
    let mut storage = Storage::default();
    storage.settings = Settings {
        protected_symlinks: Some(world.settings[0] % 2),
        protected_regular: Some(world.settings[1] % 3),
        protected_fifos: Some(world.settings[2] % 3),
        protected_hardlinks: Some(world.settings[3] % 2),
    };
    let main_tree = tree(&world.entries);
    let point = main_tree.lookup(Tree::ROOT, b"a");
    let main = source(&mut storage, main_tree, &world);
    let side = source(&mut storage, tree(&world.side), &world);
    let mut table = MountTable::default();
    let root = table.push(mount(main, None, world.flags[0], world.maps[0]));
    if let Some(point) = point {
        table.push(mount(side, Some((root, point)), world.flags[1], world.maps[1]));
    }
    let plain = who(&world.who);
    let mut mighty = plain.clone();
    mighty.effective = CapabilitySet::ALL;
    for (number, mode, first, second) in world.acts.iter().take(30) {
        let (verb, path) = (verb(*number, *mode, *second), path(first));
        let view = View::new(&storage, &table, &plain, "x", Devices::Listed);
        let mut unwatched = Unwatched::default();
        let verdict = decide(&view, &verb, &path, &mut unwatched);
        let explored = explore(|w| decide(&view, &verb, &path, w));
        if let (Decision::Settled(watched), false) = (&explored.decision, unwatched.met_unknown) {
            assert_eq!(watched.as_ref().map(drop), verdict.as_ref().map(drop), "{verb:?} {path:?}");
        }
        let view = View::new(&storage, &table, &mighty, "x", Devices::Listed);
        let stronger = decide(&view, &verb, &path, &mut Unwatched::default());
        // Without CAP_FSETID a file of the image loses set-group-id, is copied up by that, and then has an ACL to lose.
        let nothing_to_lose = matches!(verb, Verb::RemovesAcl) && stronger == Err(Errno::ENODATA);
        assert!(verdict.is_err() || stronger.is_ok() || nothing_to_lose, "{verb:?} {path:?}: {verdict:?} {stronger:?}");
    }
});
