//! The matrix over a whole tree in one pass, for trees of millions of inodes.
//!
//! Walking to each path anew costs its depth in look-ups for every column. A sweep goes through the tree once and
//! carries along whether the directories above let the actor through; what is left for each inode are the
//! checks behind the walk, the same functions that single acts end with. Most inodes of a disk are like another
//! one, so the checks run once for each likeness (`memo.rs`).

mod column;
mod memo;
mod overview;
mod recorder;

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::act::Verb;
use mivask_model::mode::{Access, FileKind};
use mivask_model::outcome::{Effect, Errno};
use mivask_model::unmodelled::Touches;
use mivask_rules::decide::{after_walk, decide};
use mivask_rules::explore::{Explorer, explore};
use mivask_rules::settle::{Outcome, settle};
use mivask_rules::trace::{Check, StepResult};
use mivask_rules::view::{Place, View};
use mivask_rules::walk::{Follow, Walker};
use mivask_rules::witness::Unwatched;
use mivask_stage::stage::{Actor, Stage};

pub use column::{Cell, Column, Ending, Endings, PerColumn};
pub use overview::{Blocker, Overview, Share, overview};

use memo::Memo;
use recorder::Recorder;

/// One inode with its seven columns.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct Swept<'a> {
    /// Its path inside.
    pub path: &'a [u8],
    /// What it is; what is mounted on it counts.
    pub kind: FileKind,
    /// Where it is; what is mounted on it counts.
    pub place: Place,
    /// What can be done to it.
    pub endings: Endings,
    /// Whether a directory above decides, not the inode itself.
    pub shut: bool,
    /// The number of directories above it, from the start of the sweep.
    pub depth: usize,
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

/// A directory on the way.
struct Level {
    place: Place,
    /// What stops the actor from searching it, or a directory above.
    closed: Option<Ending>,
    /// Whether something was taken for granted on the way to what is in it.
    assumed: bool,
    children: std::ops::Range<usize>,
    /// How long its path is.
    path: usize,
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
/// several; gives what was taken for granted.
///
/// # Errors
/// As for [`sweep`].
pub fn follow(
    stage: &Stage,
    actor: &Actor,
    which: usize,
    start: &[u8],
    visit: impl FnMut(Event<'_>),
) -> Result<BTreeSet<Arc<str>>, SweepError> {
    let (None, Some(who)) = (actor.refusal(), actor.credentials.get(which)) else {
        return Err(SweepError::Actor);
    };
    let place = match mivask_rules::lookup::look(&stage.storage, &actor.mounts, start, Follow::Links) {
        Ok(mivask_rules::lookup::Sight::There(place)) => place,
        Ok(_) => return Err(SweepError::Start(Errno::ENOENT)),
        Err(errno) => return Err(SweepError::Start(errno)),
    };
    let view = stage.view(actor, who, "");
    let mut recorder = Recorder::default();
    // What no rule follows makes no directory shut; it is weighed for each entry.
    let modelled = view.with_unmodelled(&[]);
    let entered = decide(&modelled, &Verb::Enters, start, &mut recorder).map(drop);
    let entered = exact(recorder.ending(entered), |w| decide(&modelled, &Verb::Enters, start, w).map(drop));
    let closed = Some(entered).filter(|ending| ending.cell != Cell::Allowed);
    let end = start.iter().rposition(|byte| *byte != b'/').map_or(0, |last| last + 1);
    let mut sweep = Sweep {
        view: &view,
        walker: Walker::new(&view, &mut recorder),
        memo: Memo::new(&view),
        path: start[..end].to_vec(),
        starts: actor.needs.is_empty(),
        visit,
    };
    if let Some(ending) = closed {
        (sweep.visit)(Event::Shut(ending));
    }
    sweep.below(place, closed, entered.assumed);
    let trusted = actor.unmodelled.iter().filter(|one| one.touches == Touches::Trusted);
    recorder.assumed.extend(trusted.map(|one| Arc::from(one.name.as_str())));
    Ok(recorder.assumed)
}

struct Sweep<'v, 'w, F> {
    view: &'v View<'v>,
    walker: Walker<'v, 'w, Recorder>,
    memo: Memo,
    path: Vec<u8>,
    /// Whether it is known that the actor starts.
    starts: bool,
    visit: F,
}

impl<F: FnMut(Event<'_>)> Sweep<'_, '_, F> {
    fn below(&mut self, place: Place, closed: Option<Ending>, assumed: bool) {
        let view = self.view;
        let mut levels = vec![self.level(place, closed, assumed)];
        while let Some(level) = levels.last_mut() {
            let directory = level.place;
            let closed = level.closed;
            let assumed = level.assumed;
            let length = level.path;
            let next = level.children.next().zip(directory.inode);
            let entry = next.and_then(|(index, dir)| view.source(directory).tree.child(dir, index));
            let Some((name, inode)) = entry else {
                levels.pop();
                (self.visit)(Event::Leave);
                continue;
            };
            self.path.truncate(length);
            self.path.push(b'/');
            self.path.extend_from_slice(name);
            let place = Place { inode: Some(inode), ..directory };
            let there =
                if self.memo.is_covered(place) { view.cross(place, self.walker.witness()) } else { place };
            let found = after_walk::Found { directory, name, place, there };
            let kind = view.inode(there).map_or(FileKind::Directory, |inode| inode.kind);
            let unsure = view.is_of_unknown_kind(there);
            let endings = match closed {
                Some(shut) if shut.cell != Cell::Open => Endings::all(kind, shut),
                Some(_) | None if unsure => {
                    Endings::all(kind, Ending { cell: Cell::Open, ..Ending::default() })
                }
                Some(_) => self.open(found, kind).map(|ending| perhaps(*ending)),
                None => self.open(found, kind),
            };
            let endings = endings.map(|ending| Ending { assumed: ending.assumed || assumed, ..*ending });
            let endings = if view.unmodelled.is_empty() && self.starts {
                endings
            } else {
                unsettled(view, self.starts, endings)
            };
            let depth = levels.len();
            let shut = closed.is_some();
            (self.visit)(Event::Entry(Swept { path: &self.path, kind, place: there, endings, shut, depth }));
            if kind == FileKind::Directory {
                let open = closed.is_none_or(|shut| shut.cell == Cell::Open);
                let entered = if open { Some(self.searchable(there)) } else { None };
                let shut = entered.filter(|ending| ending.cell != Cell::Allowed);
                if let (None, Some(ending)) = (closed, shut) {
                    (self.visit)(Event::Shut(ending));
                }
                let assumed = assumed || entered.is_some_and(|ending| ending.assumed);
                let within = match (closed, shut) {
                    (Some(above), Some(shut)) if above.cell == Cell::Open => Some(perhaps(shut)),
                    (closed, shut) => closed.or(shut),
                };
                levels.push(self.level(there, within, assumed));
            }
        }
    }

    fn level(&self, place: Place, closed: Option<Ending>, assumed: bool) -> Level {
        let count = place.inode.map_or(0, |dir| self.view.source(place).tree.child_count(dir));
        Level { place, closed, assumed, children: 0..count, path: self.path.len() }
    }

    /// The columns of an entry whose directory can be searched.
    fn open(&mut self, found: after_walk::Found<'_>, kind: FileKind) -> Endings {
        let key = self.memo.key(self.view, found);
        if let Some(known) = key.as_ref().and_then(|key| self.memo.get(key)) {
            return known;
        }
        let mut endings = self.judge(found, kind);
        for column in Column::ALL {
            let ending = *endings.of(column);
            // Links and scripts have been asked about in full.
            if ending.cell == Cell::Open && ending.check != Some(Check::Link) {
                endings.set(column, self.settled(found, (column, kind), ending));
            }
        }
        // A link's columns depend on where it points, a script's on its interpreter.
        let own = kind != FileKind::Link && endings.of(Column::Run).check != Some(Check::Link);
        if let Some(key) = key
            && own
        {
            self.memo.insert(key, endings);
        }
        endings
    }

    fn judge(&mut self, found: after_walk::Found<'_>, kind: FileKind) -> Endings {
        let mut endings = Endings::default();
        let delete = after_walk::deletes(&mut self.walker, found, kind == FileKind::Directory);
        endings.set(Column::Delete, self.ending(delete));
        match kind {
            FileKind::Directory => {
                let create = after_walk::creates(&mut self.walker, found.there);
                endings.set(Column::Create, self.ending(create));
                let list = after_walk::lists(&mut self.walker, found.there);
                endings.set(Column::List, self.ending(list));
                let enter = after_walk::enters(&mut self.walker, found.there);
                endings.set(Column::Enter, self.ending(enter));
            }
            FileKind::Link => {
                endings.set(Column::Read, self.act(&Verb::Reads));
                endings.set(Column::Write, self.act(&Verb::Writes));
            }
            FileKind::File
            | FileKind::Fifo
            | FileKind::Socket
            | FileKind::CharDevice
            | FileKind::BlockDevice => {
                let read = after_walk::reads(&mut self.walker, found);
                endings.set(Column::Read, self.ending(read));
                let write = after_walk::writes(&mut self.walker, found);
                endings.set(Column::Write, self.ending(write));
                if kind == FileKind::File {
                    let run = self.run(found);
                    endings.set(Column::Run, run);
                }
            }
        }
        endings
    }

    fn run(&mut self, found: after_walk::Found<'_>) -> Ending {
        match after_walk::runs(&mut self.walker, found.there) {
            Some(result) => self.ending(result),
            // A script's interpreter is elsewhere.
            None => {
                self.walker.witness().forget();
                self.act(&Verb::Runs)
            }
        }
    }

    /// A column that takes a walk of its own, to where a link or a script points.
    fn act(&mut self, verb: &Verb) -> Ending {
        let mut unwatched = Unwatched::default();
        let ended = decide(self.view, verb, &self.path, &mut unwatched).map(drop);
        let Unwatched { met_unknown, assumed } = unwatched;
        let ending = Ending { assumed, ..Ending::of(ended, met_unknown, None) };
        let ending = exact(ending, |w| decide(self.view, verb, &self.path, w).map(drop));
        Ending { check: Some(Check::Link), ..ending }
    }

    /// How a column ends that met a missing fact, whatever that turns out to be.
    fn settled(
        &self,
        found: after_walk::Found<'_>,
        (column, kind): (Column, FileKind),
        ending: Ending,
    ) -> Ending {
        exact(ending, |w| {
            let mut walker = Walker::new(self.view, w);
            walker.turn_to(self.path.clone());
            match column {
                Column::Read => after_walk::reads(&mut walker, found),
                Column::Write => after_walk::writes(&mut walker, found),
                Column::Create => after_walk::creates(&mut walker, found.there),
                Column::Delete => after_walk::deletes(&mut walker, found, kind == FileKind::Directory),
                Column::List => after_walk::lists(&mut walker, found.there),
                Column::Enter => after_walk::enters(&mut walker, found.there),
                Column::Run => match after_walk::runs(&mut walker, found.there) {
                    Some(result) => result,
                    // A script takes a walk of its own.
                    None => decide(self.view, &Verb::Runs, &self.path, w).map(drop),
                },
            }
        })
    }

    fn searchable(&mut self, place: Place) -> Ending {
        let found = self.walker.permit(place, Access::EXECUTE);
        let ending = self.ending(found);
        exact(ending, |w| {
            let mut walker = Walker::new(self.view, w);
            walker.turn_to(self.path.clone());
            walker.permit(place, Access::EXECUTE)
        })
    }

    fn ending(&mut self, result: Result<(), Errno>) -> Ending {
        self.walker.witness().ending(result)
    }
}

/// `ending`, or what every possibility agrees on where that met a missing fact.
fn exact(ending: Ending, decide: impl Fn(&mut Explorer) -> Result<(), Errno>) -> Ending {
    if ending.cell != Cell::Open {
        return ending;
    }
    let explored = explore(|w| decide(w).map(|()| Effect::default()));
    let failed = explored.steps.iter().rev().find(|step| matches!(step.result, StepResult::Failed(_)));
    let (cell, check) = match settle(&explored).0 {
        Outcome::Allowed => (Cell::Allowed, None),
        Outcome::Denied(Some(errno)) => (Cell::Denied(errno), failed.map(|step| step.check)),
        Outcome::Denied(None) | Outcome::Depends | Outcome::NeverRuns(_) => return ending,
    };
    Ending { cell, check, ..ending }
}

/// The ending of something that is perhaps not reached, for want of search permission (EACCES).
fn perhaps(ending: Ending) -> Ending {
    match ending.cell {
        Cell::Void | Cell::Denied(Errno::EACCES) => ending,
        Cell::Allowed | Cell::Denied(_) | Cell::Open => {
            Ending { cell: Cell::Open, check: Some(Check::Unknown), ..ending }
        }
    }
}

/// What is left of endings where something was asked for that no rule here follows.
fn unsettled(view: &View<'_>, starts: bool, endings: Endings) -> Endings {
    let may = |ending: &Ending, touches: Touches| match (ending.cell, touches) {
        (Cell::Allowed, Touches::Permitted(_)) | (Cell::Allowed | Cell::Denied(_), Touches::Ids) => true,
        (Cell::Void | Cell::Open | Cell::Denied(_), _) | (_, Touches::Trusted) => false,
    };
    let trusted = view.unmodelled.iter().any(|one| one.touches == Touches::Trusted);
    endings.map(|ending| {
        let lapses = !starts && ending.cell == Cell::Allowed;
        if lapses || view.unmodelled.iter().any(|one| may(ending, one.touches)) {
            return Ending { cell: Cell::Open, check: Some(Check::Unknown), ..*ending };
        }
        Ending { assumed: ending.assumed || trusted && ending.cell == Cell::Allowed, ..*ending }
    })
}
