//! The survey format: every tree survives it, and no damage goes unnoticed.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

mod fixtures;

use mivask_disk::gathered::{Gathered, Holes};
use mivask_disk::survey::{self, SurveyError};
use mivask_model::acl::Acl;
use mivask_model::fact::{Provenance, Unknown};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{Certainty, Content, Device, Doubt, Entry, InodeId, Marks, Tree};

use fixtures::{listing, read, recorded};

const KINDS: [FileKind; 6] = [
    FileKind::File,
    FileKind::File,
    FileKind::Directory,
    FileKind::Link,
    FileKind::Fifo,
    FileKind::CharDevice,
];

/// Every other seed is of a host without labels.
const fn is_labelled(seed: u64) -> bool {
    seed.is_multiple_of(2)
}

fn label(seed: u64, random: &mut fastrand::Rng) -> Option<std::sync::Arc<str>> {
    let some = is_labelled(seed) && random.bool();
    some.then(|| format!("system_u:object_r:t{seed}_t:s0:c{}", random.u8(..9)).into())
}

/// A tree made up from a seed.
fn tree(seed: u64, inodes: usize) -> Gathered {
    let mut random = fastrand::Rng::with_seed(seed);
    let mut tree = Tree::new(Entry::directory(0, 0, 0o755), Provenance::Source("made".into()));
    let mut directories = vec![Tree::ROOT];
    let mut files: Vec<InodeId> = Vec::new();
    for _ in 0..inodes {
        let dir = directories[random.usize(..directories.len())];
        let name: Vec<u8> = (0..random.usize(1..20)).map(|_| random.u8(1..=255)).collect();
        if random.u8(..) < 12 && !files.is_empty() {
            // A name that is taken or impossible is passed over.
            let _ = tree.link(dir, &name, files[random.usize(..files.len())]);
            continue;
        }
        let kind = KINDS[random.usize(..KINDS.len())];
        let mut entry = Entry::new(kind, random.u32(7000..7010), random.u32(..), Mode::new(random.u16(..)));
        match kind {
            FileKind::Link => entry.target = name.iter().rev().copied().collect(),
            FileKind::CharDevice => {
                entry.device = random.bool().then(|| Device { major: random.u32(..), minor: 3 })
            }
            FileKind::File => {
                entry.size = random.bool().then(|| random.u64(..1 << 40));
                let contents = [
                    Content::Unknown,
                    Content::Program,
                    Content::Data,
                    Content::Empty,
                    Content::Script(b"/bin/sh"[..].into()),
                ];
                entry.content = contents[random.usize(..contents.len())].clone();
            }
            FileKind::Directory | FileKind::Fifo | FileKind::Socket | FileKind::BlockDevice => {}
        }
        if random.u8(..) < 20 {
            entry.extended.access = Some(Acl::parse("user:7102:rw-,mask::r--", entry.mode).unwrap());
            entry.extended.capabilities = (kind == FileKind::File).then(|| "CHOWN=ep".parse().unwrap());
        }
        entry.extended.label = label(seed, &mut random);
        if random.u8(..) < 20 {
            let attributes = Certainty::Unknown(Unknown::new("who knows", "look"));
            entry.doubt = Some(Doubt::new(attributes, Certainty::Assumed("nothing else".into())));
        }
        entry.marks = if random.u8(..) < 20 { Marks::IMMUTABLE } else { Marks::default() };
        let Ok(id) = tree.add(dir, &name, entry) else { continue };
        match kind {
            FileKind::Directory => directories.push(id),
            FileKind::File => files.push(id),
            FileKind::Link
            | FileKind::Fifo
            | FileKind::Socket
            | FileKind::CharDevice
            | FileKind::BlockDevice => {}
        }
    }
    Gathered::new(tree, Holes { denied: 3, ..Holes::default() })
}

/// Everything about every inode, by path.
fn told(tree: &Tree) -> Vec<String> {
    let mut all = Vec::new();
    let mut pending = vec![(Tree::ROOT, Vec::new())];
    while let Some((id, path)) = pending.pop() {
        let inode = tree.inode(id);
        all.push(format!(
            "{path:?} {:?} {} {} {} {:?} {:?} {:?} {:?} {:?} {:?} {:?}",
            inode.kind,
            inode.stored_mode(),
            inode.stored_owner().uid,
            inode.stored_owner().gid,
            inode.marks.given(),
            tree.target(id),
            tree.content(id),
            tree.device(id),
            tree.extended(id),
            tree.doubt(id),
            tree.size(id),
        ));
        for (name, child) in tree.children(id) {
            pending.push((child, [&path[..], b"/", name].concat()));
        }
    }
    all
}

#[test]
fn every_tree_survives() {
    for seed in 0..40 {
        let made = tree(seed, 400);
        let bytes = recorded(&made);
        // Readers of before read what has no labels.
        assert_eq!(&bytes[..16], if is_labelled(seed) { survey::MAGIC_LABELLED } else { survey::MAGIC });
        let again = read(&bytes).unwrap();
        assert_eq!(told(&again.tree), told(&made.tree), "seed {seed}");
        assert_eq!(listing(&again.tree), listing(&made.tree), "hard links, seed {seed}");
        assert_eq!(again.holes, made.holes);
    }
}

/// A directory that does not fit into one frame goes on in the next.
#[test]
fn large_directories_are_split() {
    let mut tree = Tree::new(Entry::directory(0, 0, 0o755), Provenance::Source("made".into()));
    for index in 0..70_000_u32 {
        let name = format!("{:08x}", index.wrapping_mul(2_654_435_761));
        tree.add(Tree::ROOT, name.as_bytes(), Entry::file(index % 1000, 7, 0o640)).unwrap();
    }
    let made = Gathered::new(tree, Holes::default());
    let bytes = recorded(&made);
    assert!(bytes.len() < 12 * 70_000, "{} bytes", bytes.len());
    assert_eq!(listing(&read(&bytes).unwrap().tree), listing(&made.tree));
}

#[test]
fn a_label_that_is_none_is_damage() {
    let mut made = Tree::new(Entry::directory(0, 0, 0o755), Provenance::Source("made".into()));
    let mut entry = Entry::file(0, 0, 0o644);
    entry.extended.label = Some("no\nlabel".into());
    made.add(Tree::ROOT, b"f", entry).unwrap();
    let error = read(&recorded(&Gathered::new(made, Holes::default()))).unwrap_err();
    assert!(error.to_string().contains("a label that is none"), "{error}");
}

#[test]
fn no_damage_goes_unnoticed() {
    let bytes = recorded(&tree(1, 25));
    for end in 0..bytes.len() {
        assert!(survey::read(&mut &bytes[..end], "cut", Some(end as u64)).is_err(), "cut at {end}");
    }
    // Behind the first line every bit is covered by a checksum or is a length.
    for at in survey::MAGIC.len()..bytes.len() {
        let mut damaged = bytes.clone();
        damaged[at] ^= 1 << (at % 8);
        assert!(survey::read(&mut &damaged[..], "damaged", None).is_err(), "a bit of byte {at}");
    }
    let longer = [&bytes[..], b"x"].concat();
    assert!(survey::read(&mut &longer[..], "longer", None).is_err());
    let later = [b"mivask-survey 3\n", &bytes[16..]].concat();
    assert!(matches!(survey::read(&mut &later[..], "later", None), Err(SurveyError::Version)));
}

/// Frames whose checksums fit but whose content is nonsense are refused without much memory.
#[test]
fn what_gets_past_the_checksums_is_still_checked() {
    let mut random = fastrand::Rng::with_seed(7);
    for _ in 0..1_000 {
        let raw: Vec<u8> = (0..random.usize(..80)).map(|_| random.u8(..).min(random.u8(..))).collect();
        let framed = survey::framed(&raw);
        assert!(survey::read(&mut &framed[..], "framed", Some(framed.len() as u64)).is_err());
    }
    let error = read(&survey::framed(b"\xff\xff\xff\xff\xff\xff\xff\xff\xff\x01")).unwrap_err();
    assert!(error.to_string().contains("at byte "), "{error}");
}
