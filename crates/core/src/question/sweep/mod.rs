//! The matrix over a whole tree in one pass, for trees of millions of inodes.
//!
//! Where a mount has several possible sources, one pass is made under each, side by side (`ways.rs`), and an inode is told
//! once with what they agree on.

mod alike;
mod alone;
mod column;
mod exact;
mod memo;
mod overview;
mod pass;
mod profiled;
mod recorder;
mod sorted;
mod ways;

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::act::Verb;
use mivask_model::mode::FileKind;
use mivask_model::mount::MountTable;
use mivask_model::outcome::Errno;
use mivask_model::path::trimmed;
use mivask_model::unmodelled::Touches;
use mivask_model::usual::Usual;
use mivask_rules::decide::decide;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::view::{Place, View};
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

pub use alone::ending_at;
pub use column::{Cell, Column, Ending, Endings, PerColumn};
pub use overview::{Blocker, Overview, Share, overview, summed};

use exact::exact;
use pass::{Next, Pass, Seen, Start};
use recorder::Recorder;
use ways::Ways;

/// One inode with its seven columns.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct Swept<'a> {
    /// Its path inside.
    pub path: &'a [u8],
    /// What it is; what is mounted on it counts.
    pub kind: FileKind,
    /// Where it is; what is mounted on it counts. Of a mount that has several possible sources it is in the first.
    pub place: Place,
    /// What can be done to it.
    pub endings: Endings,
    /// Whether a directory above decides, not the inode itself.
    pub shut: bool,
    /// The number of directories above it, from the start of the sweep.
    pub depth: usize,
    /// How many entries of its directory it stands for, of which the same is told; more than 1 in sums alone.
    pub alike: u64,
}

impl Swept<'_> {
    /// One column.
    #[must_use]
    pub const fn cell(&self, column: Column) -> Cell {
        self.endings.of(column).cell
    }
}

/// What a sweep tells as it goes.
#[derive(Clone, Copy, Debug)]
pub enum Event<'a> {
    /// An inode.
    Entry(Swept<'a>),
    /// The directory that was the last entry may not be searched; what is below is shut off.
    Shut(Ending),
    /// Everything below a directory has been given.
    Leave,
}

/// What the answers of a sweep rest on.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct RestsOn {
    /// What was taken for granted.
    pub assumptions: BTreeSet<Arc<str>>,
    /// The facts behind what is only usual.
    pub usual: BTreeSet<Usual>,
}

/// Why there is nothing to sweep.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum SweepError {
    /// The actor never runs, or may be several.
    #[error("the actor never runs, or its identity is not settled")]
    Actor,
    /// Not even root gets to the start.
    #[error("{0} ({meaning})", meaning = .0.meaning())]
    Start(Errno),
}

/// Visits everything below the directory `start`, mounts included, with what `actor` can do to it.
///
/// # Errors
/// The actor has no settled identity, or nothing is known to be at `start`.
pub fn sweep(
    stage: &Stage,
    actor: &Actor,
    start: &[u8],
    mut visit: impl FnMut(Swept<'_>),
) -> Result<(), SweepError> {
    if actor.credentials.len() > 1 {
        return Err(SweepError::Actor);
    }
    follow(stage, actor, 0, start, |event| match event {
        Event::Entry(swept) => visit(swept),
        Event::Shut(_) | Event::Leave => {}
    })
    .map(drop)
}

/// The same with what happens between the inodes, for the possible identity number `which` of an actor that may be
/// several; gives what it rests on.
///
/// # Errors
/// As for [`sweep`].
pub fn follow(
    stage: &Stage,
    actor: &Actor,
    which: usize,
    start: &[u8],
    visit: impl FnMut(Event<'_>),
) -> Result<RestsOn, SweepError> {
    go(stage, actor, (which, start), false, visit)
}

/// The same, where entries may be told together.
fn go(
    stage: &Stage,
    actor: &Actor,
    (which, start): (usize, &[u8]),
    together: bool,
    mut visit: impl FnMut(Event<'_>),
) -> Result<RestsOn, SweepError> {
    let (None, Some(who)) = (actor.refusal(), actor.credentials.get(which)) else {
        return Err(SweepError::Actor);
    };
    let place = match look(&stage.storage, &actor.mounts, start, Follow::Links) {
        Ok(Sight::There(place)) => place,
        Ok(_) => return Err(SweepError::Start(Errno::ENOENT)),
        Err(errno) => return Err(SweepError::Start(errno)),
    };
    let whole = stage.view(actor, who, "");
    let ways = Ways::of(&actor.mounts);
    let tables = ways.as_ref().map_or(std::slice::from_ref(&actor.mounts), |ways| ways.tables.as_slice());
    let views: Vec<View<'_>> = tables.iter().map(|table| whole.before(table)).collect();
    let mut rests_on = RestsOn::default();
    let mut recorders: Vec<Recorder> = views.iter().map(|_| Recorder::default()).collect();
    let entered = entered((&whole, &views), &mut recorders, (start, place), &mut rests_on);
    let places = views.iter().map(|view| chosen(place, view.mounts()));
    let starts: Vec<Start<'_>> = entered
        .iter()
        .zip(places)
        .map(|(entered, place)| {
            let closed = Some(*entered).filter(|ending| ending.cell != Cell::Allowed);
            // Choices may tell apart what one of them does not.
            let together = together && ways.is_none();
            Start { place, path: start, closed, assumed: entered.assumed, together }
        })
        .collect();
    let begun = match &ways {
        Some(ways) => ways.agreed(place.mount, entered.into_iter(), &mut rests_on.usual),
        None => entered[0],
    };
    let passes = views.iter().zip(&mut recorders).zip(starts);
    let mut passes: Vec<Pass<'_, '_>> = passes
        .map(|((view, recorder), start)| Pass::new((view, &whole), recorder, &actor.needs, start))
        .collect();
    if begun.cell != Cell::Allowed {
        visit(Event::Shut(begun));
    }
    run(&mut passes, ways.as_ref(), begun.cell != Cell::Allowed, &mut rests_on.usual, visit);
    drop(passes);
    for recorder in recorders {
        rests_on.assumptions.extend(recorder.assumed);
        rests_on.usual.extend(recorder.usual);
    }
    let trusted = actor.unmodelled.iter().filter(|one| one.touches == Touches::Trusted);
    rests_on.assumptions.extend(trusted.map(|one| Arc::from(one.name.as_str())));
    Ok(rests_on)
}

/// `place`, found under the first choice, under that of `mounts`.
fn chosen(place: Place, mounts: &MountTable) -> Place {
    Place { source: mounts.get(place.mount).variants[0].source, ..place }
}

/// How the directory at `start` is entered, under each choice.
fn entered(
    (whole, views): (&View<'_>, &[View<'_>]),
    recorders: &mut [Recorder],
    (start, place): (&[u8], Place),
    rests_on: &mut RestsOn,
) -> Vec<Ending> {
    // What no rule follows makes no directory shut; it is weighed for each entry.
    let whole = whole.with_unmodelled(&[]);
    let mut ask = |view: &View<'_>| {
        let mut recorder = Recorder::default();
        let ended = decide(view, &Verb::Enters, start, &mut recorder).map(drop);
        let ended = recorder.ending(ended);
        let found = exact(ended, |w| decide(view, &Verb::Enters, start, w).map(drop));
        rests_on.assumptions.extend(recorder.assumed);
        rests_on.assumptions.extend(found.assumptions);
        (found.ending, found.usual)
    };
    let (ending, usual) = ask(&whole);
    // A way through links crosses mounts that the start is not in: then only what holds under all choices is taken.
    if ending.cell != Cell::Open || views.len() == 1 || !is_direct(&whole, start, place) {
        rests_on.usual.extend(usual);
        return vec![ending; recorders.len()];
    }
    views
        .iter()
        .map(|view| {
            let (ending, usual) = ask(&view.with_unmodelled(&[]));
            rests_on.usual.extend(usual);
            ending
        })
        .collect()
}

/// Whether no link is on the way from the root to `start`, which is at `place`.
fn is_direct(view: &View<'_>, start: &[u8], place: Place) -> bool {
    let mount = view.mount(place.mount);
    let tree = &view.source(place).tree;
    let (Some(inode), Some(root)) = (place.inode, mount.root) else { return false };
    let path = tree.path_of(inode);
    let below = path.strip_prefix(tree.path_of(root).as_slice());
    below.is_some_and(|below| [trimmed(&mount.facts.at), trimmed(below)].concat() == trimmed(start))
}

/// Takes the passes through the tree side by side: all choices number their inodes alike.
fn run(
    passes: &mut [Pass<'_, '_>],
    ways: Option<&Ways>,
    shut: bool,
    rests_on: &mut BTreeSet<Usual>,
    mut visit: impl FnMut(Event<'_>),
) {
    let mut seen: Vec<Seen> = Vec::with_capacity(passes.len());
    // The depth of the directory that shuts the rest off.
    let mut shut = shut.then_some(0);
    let mut depth = 0_usize;
    loop {
        seen.clear();
        let mut left = false;
        for pass in passes.iter_mut() {
            match pass.next() {
                Some(Next::Entry(one)) => seen.push(one),
                Some(Next::Leave) => left = true,
                None => return,
            }
        }
        if left {
            if shut == Some(depth) {
                shut = None;
            }
            depth = depth.saturating_sub(1);
            visit(Event::Leave);
            continue;
        }
        let one = match ways {
            Some(ways) => ways.merged(seen[0].place.mount, &seen, rests_on),
            None => seen[0],
        };
        let Seen { kind, place, alike, endings, depth: above, .. } = one;
        let path = passes[0].path();
        visit(Event::Entry(Swept { path, kind, place, endings, shut: one.shut, depth: above, alike }));
        if kind != FileKind::Directory {
            continue;
        }
        depth += 1;
        let closing = one.entered.filter(|ending| ending.cell != Cell::Allowed && shut.is_none());
        if let Some(ending) = closing {
            shut = Some(depth);
            visit(Event::Shut(ending));
        }
    }
}
