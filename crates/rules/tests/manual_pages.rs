//! The rules on their own against the words of the manual pages, each spelled out here a second time: every mode, every class of
//! actor, every capability that matters. What the kernel does is held against the rules in `crates/trial`.

use std::sync::Arc;

use mivask_model::acl::Acl;
use mivask_model::act::{Owner, Verb};
use mivask_model::caps::{Capability, CapabilitySet};
use mivask_model::credentials::Credentials;
use mivask_model::fact::Provenance;
use mivask_model::held::Held;
use mivask_model::ids::{KernelGid, KernelUid, UserNamespace};
use mivask_model::mode::{Mode, ModeChange};
use mivask_model::mount::{Mount, MountTable, Source, SourceFacts};
use mivask_model::mount_kind::MountKind;
use mivask_model::outcome::Errno::{self, EACCES, EPERM};
use mivask_model::outcome::Imprint;
use mivask_model::storage::Storage;
use mivask_model::tree::{Entry, Tree};
use mivask_rules::decide::decide;
use mivask_rules::view::{Devices, View};
use mivask_rules::witness::Unwatched;

const READ: u16 = 4;
const WRITE: u16 = 2;
const SEARCH: u16 = 1;

/// A disk with `/d` and `/d/f`, mounted at `/`.
struct Disk {
    storage: Storage,
    table: MountTable,
}

impl Disk {
    fn new(directory: Entry, file: Entry) -> Self {
        let mut tree = Tree::new(Entry::directory(0, 0, 0o755), Provenance::rule("a test"));
        let within = tree.add(Tree::ROOT, b"d", directory).expect("the root is empty");
        tree.add(within, b"f", file).expect("the directory is empty");
        let mut storage = Storage::default();
        let source = storage.add_source(Source::new(Arc::new(tree), SourceFacts::local("disk")));
        let mut table = MountTable::default();
        table.push(Mount::root(source, MountKind::Volume, Provenance::rule("a test")));
        Self { storage, table }
    }

    /// How `verb` ends for `who`, and what it leaves.
    fn imprint(&self, who: &Credentials, verb: &Verb, path: &[u8]) -> Result<Option<Imprint>, Errno> {
        let view = View::new(&self.storage, &self.table, who, "x", Devices::Listed);
        let mut unwatched = Unwatched::default();
        let verdict = decide(&view, verb, path, &mut unwatched).map(|effect| effect.imprint);
        assert!(!unwatched.met_unknown, "everything is known");
        verdict
    }

    fn ends(&self, who: &Credentials, verb: &Verb, path: &[u8]) -> Result<(), Errno> {
        self.imprint(who, verb, path).map(drop)
    }
}

fn process(uid: u32, gid: u32, groups: &[u32], held: &[Capability]) -> Credentials {
    let effective = held.iter().fold(CapabilitySet::EMPTY, |set, capability| set.with(*capability));
    Credentials {
        real: None,
        fsuid: Held::Id(KernelUid::new(uid)),
        fsgid: Held::Id(KernelGid::new(gid)),
        groups: groups.iter().copied().map(KernelGid::new).collect(),
        effective,
        permitted: effective,
        bounding: CapabilitySet::ALL,
        inheritable: CapabilitySet::EMPTY,
        ambient: CapabilitySet::EMPTY,
        umask: Mode::new(0o022),
        no_new_privileges: false,
        namespace: Arc::new(UserNamespace::initial()),
    }
}

/// Owner, owner in the group, the group as primary and as supplementary one, and someone else; with the bits
/// of a mode that count for each: path_resolution(7), "Permissions".
fn classes() -> [(Credentials, u32); 5] {
    [
        (process(7, 9, &[], &[]), 6),
        (process(7, 8, &[8], &[]), 6),
        (process(5, 8, &[], &[]), 3),
        (process(5, 9, &[8], &[]), 3),
        (process(5, 9, &[1, 2], &[]), 0),
    ]
}

/// The first class that fits decides alone, even where a later one would give more.
#[test]
fn only_the_first_class_that_fits_decides() {
    for mode in 0..=0o777_u16 {
        let disk = Disk::new(Entry::directory(0, 0, 0o755), Entry::file(7, 8, mode));
        for (who, shift) in classes() {
            let asked = [
                (Verb::Reads, READ),
                (Verb::Writes, WRITE),
                (Verb::Appends, WRITE),
                (Verb::Truncates, WRITE),
                (Verb::Shortens, WRITE),
                (Verb::Updates, READ | WRITE),
                // Looking at owner and mode takes nothing of the file itself.
                (Verb::Inspects, 0),
            ];
            for (verb, needed) in asked {
                let given = (mode >> shift) & needed == needed;
                let expected = if given { Ok(()) } else { Err(EACCES) };
                assert_eq!(disk.ends(&who, &verb, b"/d/f"), expected, "{verb:?} {mode:03o} {who:?}");
            }
        }
    }
}

/// x of a directory lets through, r lists, w and x together change what is in it.
#[test]
fn bits_of_a_directory_mean_three_things() {
    for mode in 0..=0o777_u16 {
        let disk = Disk::new(Entry::directory(7, 8, mode), Entry::file(5, 9, 0o666));
        for (who, shift) in classes() {
            let asked = [
                (Verb::Lists, "/d", READ),
                (Verb::Enters, "/d", SEARCH),
                (Verb::Reads, "/d/f", SEARCH),
                (Verb::Inspects, "/d/f", SEARCH),
                (Verb::Creates(Mode::new(0o666)), "/d/new", WRITE | SEARCH),
                (Verb::MakesDirectory(Mode::new(0o777)), "/d/new", WRITE | SEARCH),
                (Verb::Points(b"f".to_vec()), "/d/new", WRITE | SEARCH),
                (Verb::Deletes, "/d/f", WRITE | SEARCH),
                (Verb::Renames(b"/d/g".to_vec()), "/d/f", WRITE | SEARCH),
            ];
            for (verb, path, needed) in asked {
                let given = (mode >> shift) & needed == needed;
                let expected = if given { Ok(()) } else { Err(EACCES) };
                assert_eq!(disk.ends(&who, &verb, path.as_bytes()), expected, "{verb:?} {mode:03o} {who:?}");
            }
        }
    }
}

/// capabilities(7): CAP_DAC_OVERRIDE passes over read, write and search; CAP_DAC_READ_SEARCH over reading and
/// searching directories and reading files.
#[test]
fn two_capabilities_pass_over_the_bits() {
    let all = [Capability::DacOverride];
    let reading = [Capability::DacReadSearch];
    for mode in 0..=0o777_u16 {
        let file = Disk::new(Entry::directory(0, 0, 0o755), Entry::file(7, 8, mode));
        let closed = Disk::new(Entry::directory(7, 8, mode), Entry::file(7, 8, 0));
        for verb in [Verb::Reads, Verb::Writes, Verb::Updates] {
            assert_eq!(file.ends(&process(5, 9, &[], &all), &verb, b"/d/f"), Ok(()), "{verb:?} {mode:03o}");
            assert_eq!(closed.ends(&process(5, 9, &[], &all), &verb, b"/d/f"), Ok(()), "{verb:?} {mode:03o}");
        }
        let reader = process(5, 9, &[], &reading);
        assert_eq!(file.ends(&reader, &Verb::Reads, b"/d/f"), Ok(()), "{mode:03o}");
        let writes = if mode & WRITE == WRITE { Ok(()) } else { Err(EACCES) };
        assert_eq!(file.ends(&reader, &Verb::Writes, b"/d/f"), writes, "{mode:03o}");
        for verb in [Verb::Lists, Verb::Enters] {
            assert_eq!(closed.ends(&reader, &verb, b"/d"), Ok(()), "{verb:?} {mode:03o}");
        }
        // It gets through the directory but must not change it: then both bits have to be there.
        let deletes = if mode & 3 == WRITE | SEARCH { Ok(()) } else { Err(EACCES) };
        assert_eq!(closed.ends(&reader, &Verb::Deletes, b"/d/f"), deletes, "{mode:03o}");
    }
}

/// acl(5), "Access check algorithm", over every combination of r and w in five entries.
#[test]
fn the_algorithm_of_acl_5() {
    let letters = |bits: usize| ["---", "-w-", "r--", "rw-"][bits & 3];
    for pattern in 0..4_usize.pow(5) {
        let bits = |at: u32| pattern / 4_usize.pow(at) % 4;
        let (user, group, named, mask, other) = (bits(0), bits(1), bits(2), bits(3), bits(4));
        let text = format!(
            "u::rw-,u:5:{},g::{},g:20:{},m::{},o::{}",
            letters(user),
            letters(group),
            letters(named),
            letters(mask),
            letters(other)
        );
        let acl = Acl::parse(&text, Mode::new(0o600)).unwrap();
        let mut file = Entry::file(7, 8, 0o600);
        file.mode = acl.masked_mode(file.mode);
        file.extended.access = Some(acl);
        let disk = Disk::new(Entry::directory(0, 0, 0o755), file);
        for (verb, needed) in [(Verb::Reads, 2), (Verb::Writes, 1), (Verb::Updates, 3)] {
            let gives = |entry: usize| entry & mask & needed == needed;
            let rows = [
                (process(7, 20, &[], &[]), true),
                (process(5, 8, &[20], &[]), gives(user)),
                (process(6, 8, &[], &[]), gives(group)),
                // A mask of nothing is no ACL to the kernel (`acl_permission_check`): the bits alone decide then.
                (process(6, 9, &[20], &[]), if mask == 0 { other & needed == needed } else { gives(named) }),
                // One entry must give all that is asked; two do not add up.
                (process(6, 8, &[20], &[]), gives(group) || gives(named)),
                (process(6, 9, &[], &[]), other & needed == needed),
            ];
            for (who, given) in rows {
                let expected = if given { Ok(()) } else { Err(EACCES) };
                assert_eq!(disk.ends(&who, &verb, b"/d/f"), expected, "{verb:?} {text} {who:?}");
            }
        }
    }
}

/// unlink(2), EPERM: in a sticky directory only the file's owner, the directory's owner and CAP_FOWNER.
#[test]
fn a_sticky_directory_keeps_names() {
    for (directory, file) in [(7, 5), (5, 7), (7, 7), (5, 5), (5, 6)] {
        for (mode, held, sticky) in
            [(0o1777, &[][..], true), (0o777, &[][..], false), (0o1777, &[Capability::Fowner][..], false)]
        {
            let disk = Disk::new(Entry::directory(directory, 0, mode), Entry::file(file, 0, 0o666));
            let who = process(7, 9, &[], held);
            let expected = if sticky && directory != 7 && file != 7 { Err(EPERM) } else { Ok(()) };
            for verb in [Verb::Deletes, Verb::Renames(b"/d/g".to_vec())] {
                assert_eq!(disk.ends(&who, &verb, b"/d/f"), expected, "{verb:?} {directory} {file} {mode:o}");
            }
        }
    }
}

/// chmod(2): the owner or CAP_FOWNER; the set-group-ID bit of a file goes unless its group is the caller's or
/// CAP_FSETID is held.
#[test]
fn who_may_set_a_mode() {
    let to = |mode: u16| Verb::SetsMode(ModeChange::Exact(Mode::new(mode)));
    let disk = Disk::new(Entry::directory(0, 0, 0o755), Entry::file(7, 8, 0o644));
    let left = |who: &Credentials| {
        let imprint = disk.imprint(who, &to(0o2755), b"/d/f")?.expect("a chmod leaves a mode");
        Ok(imprint.mode.expect("it is known"))
    };
    assert_eq!(left(&process(7, 8, &[], &[])), Ok(Mode::new(0o2755)));
    assert_eq!(left(&process(7, 9, &[8], &[])), Ok(Mode::new(0o2755)));
    assert_eq!(left(&process(7, 9, &[], &[])), Ok(Mode::new(0o755)));
    assert_eq!(left(&process(7, 9, &[], &[Capability::Fsetid])), Ok(Mode::new(0o2755)));
    assert_eq!(left(&process(5, 8, &[], &[])), Err(EPERM));
    assert_eq!(left(&process(5, 8, &[], &[Capability::Fowner])), Ok(Mode::new(0o2755)));
    assert_eq!(left(&process(5, 9, &[], &[Capability::Fowner])), Ok(Mode::new(0o755)));
    assert_eq!(left(&process(5, 8, &[], &[Capability::DacOverride])), Err(EPERM));
}

/// chown(2): CAP_CHOWN changes anything; the owner may give a file to a group it is in, and to no one else.
#[test]
fn who_may_give_a_file_away() {
    let disk = Disk::new(Entry::directory(0, 0, 0o755), Entry::file(7, 8, 0o755));
    let gives = |who: &Credentials, uid: Option<u32>, gid: Option<u32>| {
        disk.ends(who, &Verb::SetsOwner(Owner { uid, gid }), b"/d/f")
    };
    let owner = process(7, 9, &[20], &[]);
    let privileged = process(5, 9, &[], &[Capability::Chown]);
    let rows = [
        (&owner, Some(7), None, Ok(())),
        (&owner, Some(5), None, Err(EPERM)),
        (&owner, None, Some(20), Ok(())),
        (&owner, None, Some(9), Ok(())),
        (&owner, None, Some(8), Ok(())),
        (&owner, None, Some(30), Err(EPERM)),
        (&owner, Some(7), Some(20), Ok(())),
        (&owner, Some(5), Some(20), Err(EPERM)),
        (&privileged, Some(1), Some(1), Ok(())),
        (&privileged, None, Some(30), Ok(())),
    ];
    for (who, uid, gid, expected) in rows {
        assert_eq!(gives(who, uid, gid), expected, "{uid:?} {gid:?} {who:?}");
    }
    let other = process(5, 8, &[20], &[Capability::Fowner, Capability::DacOverride]);
    assert_eq!(gives(&other, None, Some(20)), Err(EPERM), "no other capability stands in for CAP_CHOWN");
    // It also takes the set-user-ID bit away, which is a chmod: `notify_change`, then `setattr_prepare`.
    let set_id = Disk::new(Entry::directory(0, 0, 0o755), Entry::file(7, 8, 0o4755));
    let away = Verb::SetsOwner(Owner { uid: Some(1), gid: Some(1) });
    assert_eq!(set_id.ends(&privileged, &away, b"/d/f"), Err(EPERM));
    let both = process(5, 9, &[], &[Capability::Chown, Capability::Fowner]);
    let left = set_id.imprint(&both, &away, b"/d/f").unwrap().unwrap();
    assert_eq!(left.mode, Some(Mode::new(0o755)));
}

/// open(2) and mkdir(2): mode & ~umask, the caller's ids, the directory's group where it is set-group-ID; a default ACL
/// takes the place of the umask.
#[test]
fn what_a_new_file_gets() {
    for umask in 0..=0o777_u16 {
        let who = Credentials { umask: Mode::new(umask), ..process(7, 9, &[8], &[]) };
        for (directory, gid) in [(0o777, 9), (0o2777, 30)] {
            let disk = Disk::new(Entry::directory(5, 30, directory), Entry::file(0, 0, 0));
            let left = |verb: &Verb| disk.imprint(&who, verb, b"/d/new").unwrap().unwrap();
            let file = left(&Verb::Creates(Mode::new(0o666)));
            assert_eq!(file.mode, Some(Mode::new(0o666 & !umask)), "{umask:03o}");
            assert_eq!((file.disk_uid.unwrap().raw(), file.disk_gid.unwrap().raw()), (7, gid), "{umask:03o}");
            let made = left(&Verb::MakesDirectory(Mode::new(0o777)));
            let handed_on = directory & 0o2000;
            assert_eq!(made.mode, Some(Mode::new((0o777 & !umask) | handed_on)), "{umask:03o}");
            assert_eq!(made.disk_gid.unwrap().raw(), gid, "{umask:03o}");
        }
        let mut shared = Entry::directory(5, 30, 0o777);
        shared.extended.default = Some(Acl::parse("u::rwx,g::rwx,o::---", Mode::new(0o777)).unwrap());
        let disk = Disk::new(shared, Entry::file(0, 0, 0));
        let file = disk.imprint(&who, &Verb::Creates(Mode::new(0o666)), b"/d/new").unwrap().unwrap();
        assert_eq!(file.mode, Some(Mode::new(0o660)), "umask {umask:03o} does not count here");
    }
}
