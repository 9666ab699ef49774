//! Two stages side by side: files that differ, and what an actor can do now that it could not before.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;
use std::sync::Arc;

use mivask_model::mount::{Mount, MountOrigin, MountTable, SourceId};
use mivask_model::path::parent;
use mivask_model::tree::Tree;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::settle::Outcome;
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

use super::access::{AccessRow, access, default_paths};
use super::facts::{PathFacts, facts_of};
use super::sweep::{Cell, Column, PerColumn, follow};
use crate::drift::drift;
use crate::question::Event;

/// Entries that are compared below one mount; beyond, only what is directly in it.
pub const MOST_COMPARED: usize = 500_000;

/// A path that looks different.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct FileChange {
    /// Who sees it so.
    pub actor: String,
    /// The path inside.
    pub path: Vec<u8>,
    /// Before; `None` where nothing was there.
    pub before: Option<PathFacts>,
    /// After; `None` where nothing is there.
    pub after: Option<PathFacts>,
}

/// A question that ends differently.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
#[non_exhaustive]
pub struct OutcomeChange {
    /// Who.
    pub actor: String,
    /// What.
    pub column: Column,
    /// How it ended before.
    pub before: CellOutcome,
    /// How it ends now.
    pub after: CellOutcome,
    /// The paths inside, in order.
    pub paths: Vec<Vec<u8>>,
}

/// How a question ends, as far as it is compared.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum CellOutcome {
    /// Nothing is there, or the question makes no sense for it.
    Void,
    /// It succeeds.
    Allowed,
    /// It fails; `None` where the errno depends on something.
    Denied(Option<mivask_model::outcome::Errno>),
    /// It depends on a missing fact.
    Depends,
    /// The actor never runs.
    Never,
}

/// What differs for one actor.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Contrast {
    /// Files with another owner or mode, new ones and those that are gone.
    pub files: Vec<FileChange>,
    /// What became allowed.
    pub opened: Vec<OutcomeChange>,
    /// What is no longer allowed.
    pub closed: Vec<OutcomeChange>,
    /// What ends otherwise: with another errno, or depending on a fact.
    pub other: Vec<OutcomeChange>,
    /// Whether only what is directly in the mounts was compared, since there is more than [`MOST_COMPARED`].
    pub partial: bool,
}

impl Contrast {
    /// Whether nothing differs, as far as it was compared.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        let outcomes = [&self.opened, &self.closed, &self.other];
        self.files.is_empty() && outcomes.into_iter().all(Vec::is_empty)
    }
}

/// One path on one side.
#[derive(Clone, Copy)]
struct Seen {
    facts: Option<PathFacts>,
    outcomes: PerColumn<CellOutcome>,
}

/// What one side shows, path by path.
type Shown = BTreeMap<Vec<u8>, Seen>;

/// Entries of an image that are compared where only the actor's identity differs.
const MOST_OF_AN_IMAGE: usize = 50_000;

/// What differs for an actor between two stages, below `starts`; without any, below every mount that its description
/// asks for, and in its image if that or the actor's identity is another.
#[must_use]
pub fn contrast(before: (&Stage, &Actor), after: (&Stage, &Actor), starts: &[Vec<u8>]) -> Contrast {
    if sees_the_same(before, after) {
        return Contrast::default();
    }
    let mut below: Vec<Vec<u8>> = starts.to_vec();
    if starts.is_empty() {
        below = [mounted(before.1), mounted(after.1)].concat();
        let other = before.1.credentials != after.1.credentials && is_small(after);
        if other || images_differ(before, after) {
            below.push(b"/".to_vec());
        }
    }
    contrasted(&Baseline::new(before.0, before.1), after, &below)
}

/// Paths of one side that are kept for the next comparison.
const MOST_KEPT: usize = 500_000;

/// What is shown below some paths.
type Kept = (Vec<Vec<u8>>, Rc<Shown>);

/// An actor before a change, compared with several changes: what it shows is looked at once.
pub(crate) struct Baseline<'a> {
    stage: &'a Stage,
    actor: &'a Actor,
    /// What is shown below the paths that were last asked for.
    kept: RefCell<Option<Kept>>,
}

impl<'a> Baseline<'a> {
    pub(crate) const fn new(stage: &'a Stage, actor: &'a Actor) -> Self {
        Self { stage, actor, kept: RefCell::new(None) }
    }

    /// What differs now below `starts`, or what is mounted: a remedy is not held against the rest of an image.
    pub(crate) fn contrast(&self, after: (&Stage, &Actor), starts: &[Vec<u8>]) -> Contrast {
        if sees_the_same((self.stage, self.actor), after) {
            return Contrast::default();
        }
        contrasted(self, after, starts)
    }

    /// Everything below `starts`; `None` where that is too much.
    fn swept(&self, starts: &[Vec<u8>]) -> Option<Rc<Shown>> {
        if let Some((known, shown)) = &*self.kept.borrow()
            && known == starts
        {
            return Some(shown.clone());
        }
        let shown = Rc::new(swept((self.stage, self.actor), starts)?);
        if shown.len() <= MOST_KEPT {
            *self.kept.borrow_mut() = Some((starts.to_vec(), shown.clone()));
        }
        Some(shown)
    }
}

/// Whether nothing that decides about files is different for the actor.
fn sees_the_same(before: (&Stage, &Actor), after: (&Stage, &Actor)) -> bool {
    let ((old, was), (new, is)) = (before, after);
    let source = |stage: &Stage, other: &Stage, a: SourceId, b: SourceId| {
        let (a, b) = (stage.source(a), other.source(b));
        Arc::ptr_eq(&a.tree, &b.tree)
            && (a.facts.read_only, &a.facts.native, &a.facts.personality)
                == (b.facts.read_only, &b.facts.native, &b.facts.personality)
    };
    let mount = |a: &Mount, b: &Mount| {
        let sources = a.variants.iter().zip(&b.variants);
        (&a.facts.at, a.on, a.root, a.flags, &a.facts.ids)
            == (&b.facts.at, b.on, b.root, b.flags, &b.facts.ids)
            && a.variants.len() == b.variants.len()
            && sources.into_iter().all(|(a, b)| source(old, new, a.source, b.source))
    };
    let mounts = was.mounts.iter().zip(is.mounts.iter());
    old.storage.settings == new.storage.settings
        && was.credentials == is.credentials
        && was.refusal().is_some() == is.refusal().is_some()
        && was.all_devices == is.all_devices
        && was.unmodelled.len() == is.unmodelled.len()
        && was.mounts.iter().count() == is.mounts.iter().count()
        && mounts.into_iter().all(|((_, a), (_, b))| mount(a, b))
}

fn contrasted(baseline: &Baseline<'_>, after: (&Stage, &Actor), starts: &[Vec<u8>]) -> Contrast {
    let before = (baseline.stage, baseline.actor);
    let mut all: Vec<Vec<u8>> = starts.to_vec();
    if starts.is_empty() {
        all = mounted(before.1);
        all.extend(mounted(after.1));
    }
    all.sort();
    all.dedup();
    let outer = all.clone();
    all.retain(|path| {
        !outer
            .iter()
            .any(|above| above != path && mivask_model::host_mounts::is_within(path, above) && above != b"/")
    });
    let (old, new, partial) = sides(baseline, after, &all);
    let name = after.1.name.to_string();
    let paths: BTreeSet<&Vec<u8>> = old.keys().chain(new.keys()).collect();
    let (mut unlisted_before, mut unlisted_after) = (Unlisted::default(), Unlisted::default());
    let mut files = Vec::new();
    let mut groups: BTreeMap<(Column, CellOutcome, CellOutcome), Vec<Vec<u8>>> = BTreeMap::new();
    for path in paths {
        let then = old.get(path);
        let now = new.get(path);
        let unlisted_then = if then.is_none() { unlisted_before.at(before, path) } else { None };
        let unlisted_now = if now.is_none() { unlisted_after.at(after, path) } else { None };
        let was = then.and_then(|seen| seen.facts);
        let is = now.and_then(|seen| seen.facts);
        // What may have been there all along is neither new nor gone.
        if was != is && unlisted_then.is_none() && unlisted_now.is_none() {
            files.push(FileChange { actor: name.clone(), path: path.clone(), before: was, after: is });
        }
        for column in Column::ALL {
            let outcome = |seen: Option<&Seen>, other: Option<&Seen>| match (seen, other) {
                (Some(seen), _) => *seen.outcomes.of(column),
                (None, Some(other)) => *other.outcomes.of(column),
                (None, None) => CellOutcome::Void,
            };
            let key = (column, outcome(then, unlisted_then.as_ref()), outcome(now, unlisted_now.as_ref()));
            if key.1 != key.2 {
                groups.entry(key).or_default().push(path.clone());
            }
        }
    }
    let mut contrast = Contrast { files, partial, ..Contrast::default() };
    for ((column, was, is), paths) in groups {
        let change = OutcomeChange { actor: name.clone(), column, before: was, after: is, paths };
        match (was, is) {
            // What is new or gone is given as a file.
            (CellOutcome::Void, CellOutcome::Denied(_) | CellOutcome::Never) | (_, CellOutcome::Void) => {}
            (_, CellOutcome::Allowed) => contrast.opened.push(change),
            (CellOutcome::Allowed, _) => contrast.closed.push(change),
            (_, _) => contrast.other.push(change),
        }
    }
    contrast
}

/// Whether what an image holds is few enough to be compared for another identity alone.
fn is_small((stage, actor): (&Stage, &Actor)) -> bool {
    let root = actor.mounts.get(MountTable::ROOT);
    root.variants.iter().all(|one| stage.source(one.source).tree.len() <= MOST_OF_AN_IMAGE)
}

/// Whether the files of the image, or of what else is the root, are others.
fn images_differ(before: (&Stage, &Actor), after: (&Stage, &Actor)) -> bool {
    let roots = |(stage, actor): (&Stage, &Actor)| -> Vec<Arc<Tree>> {
        let root = actor.mounts.get(MountTable::ROOT);
        root.variants.iter().map(|variant| stage.source(variant.source).tree.clone()).collect()
    };
    let (old, new) = (roots(before), roots(after));
    let same = |old: &Arc<Tree>, new: &Arc<Tree>| {
        let mut found = false;
        Arc::ptr_eq(old, new) || {
            drift(old, new, &mut |_, _| found = true);
            !found
        }
    };
    old.len() != new.len() || !old.iter().zip(&new).all(|(old, new)| same(old, new))
}

/// The mounts that a description asks for, or the root where it asks for none.
fn mounted(actor: &Actor) -> Vec<Vec<u8>> {
    let declared = actor.mounts.iter().filter(|(_, mount)| mount.origin == MountOrigin::Declared);
    let mut all: Vec<Vec<u8>> = declared.map(|(_, mount)| mount.facts.at.to_vec()).collect();
    if all.is_empty() {
        all.push(actor.mounts.get(MountTable::ROOT).facts.at.to_vec());
    }
    all
}

/// What both show, and whether that is only what is directly in the mounts because it is too much. Either both are swept or
/// neither is, since only what is asked about on both sides can be compared.
fn sides(baseline: &Baseline<'_>, after: (&Stage, &Actor), starts: &[Vec<u8>]) -> (Rc<Shown>, Shown, bool) {
    let before = (baseline.stage, baseline.actor);
    let settled = |actor: &Actor| actor.refusal().is_none() && actor.credentials.len() == 1;
    let sweeps = settled(before.1) && settled(after.1);
    if sweeps
        && let Some(old) = baseline.swept(starts)
        && let Some(new) = swept(after, starts)
    {
        return (old, new, false);
    }
    let mut paths: BTreeSet<Vec<u8>> = starts.iter().cloned().collect();
    paths.extend(default_paths(before.0, before.1));
    paths.extend(default_paths(after.0, after.1));
    let listed = |(stage, actor): (&Stage, &Actor)| -> Shown {
        let never = actor.refusal().is_some();
        paths.iter().map(|path| (path.clone(), of_row(&access(stage, actor, path), never))).collect()
    };
    (Rc::new(listed(before)), listed(after), sweeps)
}

/// Everything below `starts`; `None` where that is too much.
fn swept((stage, actor): (&Stage, &Actor), starts: &[Vec<u8>]) -> Option<Shown> {
    let mut all = BTreeMap::new();
    starts.iter().all(|start| whole(stage, actor, start, &mut all)).then_some(all)
}

/// Everything below `start`; `false` where that is too much.
fn whole(stage: &Stage, actor: &Actor, start: &[u8], all: &mut BTreeMap<Vec<u8>, Seen>) -> bool {
    // From the root down, what a runtime mounts into every container is left out: /proc, /sys and /dev.
    let asked =
        |mount: &Mount| start != b"/" || matches!(mount.origin, MountOrigin::Declared | MountOrigin::Root);
    let _ = follow(stage, actor, 0, start, |event| {
        if let Event::Entry(swept) = event
            && all.len() <= MOST_COMPARED
            && asked(actor.mounts.get(swept.place.mount))
        {
            let facts = facts_of(stage, actor, swept.place);
            let outcomes = PerColumn::from_fn(|column| match swept.cell(column) {
                Cell::Void => CellOutcome::Void,
                Cell::Allowed => CellOutcome::Allowed,
                Cell::Denied(errno) => CellOutcome::Denied(Some(errno)),
                Cell::Open => CellOutcome::Depends,
            });
            all.insert(swept.path.to_vec(), Seen { facts, outcomes });
        }
    });
    // A sweep tells what is below its start; of a start that is not a directory, or not known, nothing.
    let row = access(stage, actor, start);
    all.insert(start.to_vec(), of_row(&row, false));
    all.len() <= MOST_COMPARED
}

/// The longest name, in bytes (limits.h).
const NAME_MAX: usize = 255;

/// What one side does not list, and that may be there: the same for all names in a directory.
#[derive(Default)]
struct Unlisted {
    /// By directory.
    known: BTreeMap<Vec<u8>, Seen>,
}

impl Unlisted {
    /// What `path` shows; `None` where it is known whether it is there.
    fn at(&mut self, (stage, actor): (&Stage, &Actor), path: &[u8]) -> Option<Seen> {
        if look(&stage.storage, &actor.mounts, path, Follow::Links) != Ok(Sight::Unlisted) {
            return None;
        }
        let ask = || of_row(&access(stage, actor, path), actor.refusal().is_some());
        let directory = parent(path);
        // What is too long is another matter (ENAMETOOLONG), and nothing as short as this is.
        if path.len() > NAME_MAX {
            return Some(ask());
        }
        if let Some(known) = self.known.get(directory) {
            return Some(*known);
        }
        let seen = ask();
        self.known.insert(directory.to_vec(), seen);
        Some(seen)
    }
}

fn of_row(row: &AccessRow, never: bool) -> Seen {
    let outcomes = row.cells.map(|cell| match cell {
        None => CellOutcome::Void,
        Some(_) if never => CellOutcome::Never,
        Some(Outcome::Allowed) => CellOutcome::Allowed,
        Some(Outcome::Denied(errno)) => CellOutcome::Denied(*errno),
        Some(Outcome::Depends) => CellOutcome::Depends,
        Some(Outcome::NeverRuns(_)) => CellOutcome::Never,
    });
    Seen { facts: row.facts, outcomes }
}
