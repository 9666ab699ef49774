//! The hot path allocates nothing: decisions that no one watches, over a world where every fact is known.
//!
//! It is in this crate because counting allocations takes a few lines of unsafe code.

use std::alloc::{GlobalAlloc, Layout, System};
use std::cell::Cell;
use std::path::Path;

use mivask_core::acl::Acl;
use mivask_core::act::Verb;
use mivask_core::decide::{decide, decide_new_entry};
use mivask_core::fact::Provenance;
use mivask_core::imprint::NewKind;
use mivask_core::mode::Mode;
use mivask_core::prepare;
use mivask_core::storage::Settings;
use mivask_core::tree::{Entry, Tree};
use mivask_core::witness::Unwatched;
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{Disk, Origin, read_input};

thread_local! {
    static ALLOCATIONS: Cell<usize> = const { Cell::new(0) };
    static LIVE: Cell<isize> = const { Cell::new(0) };
}

/// Counts the allocations of each thread.
struct Counting;

// SAFETY: every call is passed on unchanged to the system's allocator.
#[expect(unsafe_code, reason = "GlobalAlloc asks for it")]
unsafe impl GlobalAlloc for Counting {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        ALLOCATIONS.with(|count| count.set(count.get() + 1));
        LIVE.with(|live| live.set(live.get() + layout.size().cast_signed()));
        // SAFETY: the caller keeps the contract of `GlobalAlloc::alloc`.
        unsafe { System.alloc(layout) }
    }

    unsafe fn dealloc(&self, pointer: *mut u8, layout: Layout) {
        LIVE.with(|live| live.set(live.get() - layout.size().cast_signed()));
        // SAFETY: the pointer came from `alloc` above, which is the system's.
        unsafe { System.dealloc(pointer, layout) }
    }
}

#[global_allocator]
static ALLOCATOR: Counting = Counting;

/// Paths of every kind in the agreement table's world: files, links, closed directories, mounts, what is missing.
const PATHS: [&[u8]; 20] = [
    b"/",
    b"/c/owner-0400",
    b"/c/extra-0060",
    b"/a/user-r",
    b"/a/two-groups",
    b"/d/r-only/f",
    b"/d/open/full",
    b"/d/sticky/theirs",
    b"/d/sgid",
    b"/f/append",
    b"/f/fifo",
    b"/p/set-both",
    b"/p/script",
    b"/l/chain",
    b"/l/loop",
    b"/l/dangling",
    b"/m/ro/closed",
    b"/m/sb-ro/open",
    b"/m/rw/inner/../../c/root-0644",
    b"/d/open/none",
];

#[test]
fn an_unwatched_decision_allocates_nothing() {
    let mut diagnostics = Diagnostics::default();
    let origin = Origin::of(Path::new("../trial/tests/agreement/worlds.yaml"));
    let mut scene = read_input(&origin, &Disk, &mut diagnostics).unwrap();
    scene.host.settings = Settings {
        protected_symlinks: Some(1),
        protected_regular: Some(2),
        protected_fifos: Some(1),
        protected_hardlinks: Some(1),
    };
    let stage = prepare::stage(&scene);
    let mut decisions = 0;
    for actor in stage.actors.iter() {
        let view = stage.view(actor, &actor.credentials[0], "somebody");
        for path in PATHS {
            for verb in Verb::ALL {
                let mut unwatched = Unwatched::default();
                let before = ALLOCATIONS.with(Cell::get);
                let verdict = decide(&view, verb, path, &mut unwatched);
                let after = ALLOCATIONS.with(Cell::get);
                assert_eq!(after, before, "{} {}: {verdict:?}", verb.word(), String::from_utf8_lossy(path));
                decisions += usize::from(!unwatched.met_unknown);
            }
            let mut unwatched = Unwatched::default();
            let before = ALLOCATIONS.with(Cell::get);
            let verdict = decide_new_entry(&view, NewKind::File, Mode::new(0o666), path, &mut unwatched);
            assert_eq!(
                ALLOCATIONS.with(Cell::get),
                before,
                "new in {}: {verdict:?}",
                String::from_utf8_lossy(path)
            );
        }
    }
    assert_eq!(decisions, stage.actors.len() * PATHS.len() * Verb::ALL.len(), "every fact is known");
}

/// The counter counts, so that the test above can fail.
#[test]
fn the_counter_counts() {
    let before = ALLOCATIONS.with(Cell::get);
    let text = String::from("a text of some length");
    assert!(ALLOCATIONS.with(Cell::get) > before, "{text}");
}

/// A tree of many inodes, a quarter with ACLs of a few kinds, takes less than 80 bytes an inode besides names.
#[test]
fn a_large_tree_is_compact() {
    const DIRECTORIES: u32 = 2_000;
    const FILES: u32 = 100;
    let before = LIVE.with(Cell::get);
    let mut tree = Tree::new(Entry::directory(0, 0, 0o755), Provenance::rule("test"));
    let mut names = 0;
    for directory in 0..DIRECTORIES {
        let name = format!("d{directory:05}");
        names += name.len();
        let dir = tree.add(Tree::ROOT, name.as_bytes(), Entry::directory(7101, 7200, 0o755)).unwrap();
        for file in 0..FILES {
            let name = format!("f{file:03}");
            names += name.len();
            let mut entry = Entry::file(7101 + file % 7, 7200, 0o640);
            if file % 4 == 0 {
                let text = format!("user:{}:rw-", 7300 + directory % 5);
                entry.extended.access = Some(Acl::parse(&text, Mode::new(0o640)).unwrap());
            }
            tree.add(dir, name.as_bytes(), entry).unwrap();
        }
    }
    let bytes = usize::try_from(LIVE.with(Cell::get) - before).unwrap() - names;
    let each = bytes / tree.len();
    assert!(each < 80, "{each} bytes an inode besides {names} bytes of names");
    println!("{} inodes, {each} bytes each besides names", tree.len());
}
