//! One pass over a tree, under one choice of the sources of mounts of which several are possible.
//!
//! Walking to each path anew costs its depth in look-ups for every column. A pass goes through the tree once and carries along
//! whether the directories above let the actor through; what is left for each inode are the checks behind the walk, the same
//! functions that single acts end with. Most inodes of a disk are like another one, so the checks run once for each likeness
//! (`memo.rs`).

use mivask_model::act::Verb;
use mivask_model::mode::{Access, FileKind, Mode};
use mivask_model::outcome::Errno;
use mivask_rules::decide::{after_walk, decide, decide_new_entry};
use mivask_rules::explore::Explorer;
use mivask_rules::imprint::NewKind;
use mivask_rules::profile::is_near;
use mivask_rules::trace::Check;
use mivask_rules::view::{Place, View};
use mivask_rules::walk::Walker;
use mivask_rules::witness::Unwatched;
use mivask_stage::need::Need;

use super::alike::{Entries, Sets};
use super::column::{Cell, Column, Ending, Endings, PerColumn};
use super::exact::{Exact, exact, perhaps, unsettled};
use super::memo::Memo;
use super::profiled::denied;
use super::recorder::Recorder;

/// A directory on the way.
pub(super) struct Level {
    pub place: Place,
    /// What stops the actor from searching it, or a directory above.
    pub closed: Option<Ending>,
    /// Whether something was taken for granted on the way to what is in it.
    assumed: bool,
    children: Entries,
    /// How long its path is.
    pub path: usize,
}

/// One inode as a pass finds it.
#[derive(Clone, Copy)]
pub(super) struct Seen {
    pub kind: FileKind,
    pub place: Place,
    /// How many entries of the directory it stands for.
    pub alike: u64,
    pub endings: Endings,
    /// Whether a directory above decides.
    pub shut: bool,
    pub depth: usize,
    /// How searching it ends, where it is a directory that everybody above it lets through to.
    pub entered: Option<Ending>,
}

/// What a pass comes to next.
pub(super) enum Next {
    Entry(Seen),
    /// Everything below a directory has been given.
    Leave,
}

/// Where a pass begins.
#[derive(Clone, Copy)]
pub(super) struct Start<'p> {
    pub place: Place,
    pub path: &'p [u8],
    /// What stops the actor from searching it.
    pub closed: Option<Ending>,
    /// Whether something was taken for granted on the way to it.
    pub assumed: bool,
    /// Whether entries of which the same is told are told together, at the first of them.
    pub together: bool,
}

pub(super) struct Pass<'v, 'w> {
    /// Under this pass's choice.
    pub(super) view: &'v View<'v>,
    /// Under no choice: links may lead to other mounts, whose sources are another question.
    whole: &'v View<'v>,
    walker: Walker<'v, 'w, Recorder>,
    pub(super) memo: Memo,
    pub(super) path: Vec<u8>,
    /// What has to be so for the actor to start, and is not known.
    needs: &'v [Need],
    pub(super) levels: Vec<Level>,
    /// Whether entries of which the same is told are told together.
    together: bool,
    pub(super) sets: Sets,
}

impl<'v, 'w> Pass<'v, 'w> {
    pub(super) fn new(
        (view, whole): (&'v View<'v>, &'v View<'v>),
        recorder: &'w mut Recorder,
        needs: &'v [Need],
        start: Start<'_>,
    ) -> Self {
        let end = start.path.iter().rposition(|byte| *byte != b'/').map_or(0, |last| last + 1);
        let mut pass = Self {
            view,
            whole,
            walker: Walker::new(view, recorder),
            memo: Memo::new(view),
            path: start.path[..end].to_vec(),
            needs,
            levels: Vec::new(),
            together: start.together,
            sets: Sets::default(),
        };
        pass.levels.push(pass.level(start.place, start.closed, start.assumed));
        pass
    }

    /// The path of the last entry.
    pub(super) fn path(&self) -> &[u8] {
        &self.path
    }

    /// The next inode; `None` after the last one.
    pub(super) fn next(&mut self) -> Option<Next> {
        let view = self.view;
        let depth = self.levels.len();
        if let Some(&Entries::Unsorted(count)) = self.levels.last().map(|level| &level.children) {
            self.levels[depth - 1].children = self.sorted(count);
        }
        let level = self.levels.last_mut()?;
        let (directory, closed, assumed, length) = (level.place, level.closed, level.assumed, level.path);
        let next = level.children.next().zip(directory.inode);
        let entry = next
            .and_then(|((index, alike), dir)| Some((view.source(directory).tree.child(dir, index)?, alike)));
        let Some(((name, inode), alike)) = entry else {
            self.levels.pop();
            return Some(Next::Leave);
        };
        self.path.truncate(length);
        self.path.push(b'/');
        self.path.extend_from_slice(name);
        let place = Place { inode: Some(inode), ..directory };
        let there = if self.memo.is_covered(place) { self.cross(place) } else { place };
        let found = after_walk::Found { directory, name, place, there };
        let kind = view.inode(there).map_or(FileKind::Directory, |inode| inode.kind);
        let endings = self.endings(found, kind, closed);
        let endings = endings.map(|ending| Ending { assumed: ending.assumed || assumed, ..*ending });
        let endings = if view.unmodelled.is_empty() && self.needs.is_empty() {
            endings
        } else {
            unsettled(view, self.needs, endings)
        };
        let mut seen =
            Seen { kind, place: there, alike, endings, shut: closed.is_some(), depth, entered: None };
        if kind == FileKind::Directory {
            seen.entered = self.enter(there, closed, assumed);
        }
        Some(Next::Entry(seen))
    }

    /// What is mounted over `place`. Whether that is a directory or a file is asked again for each column.
    fn cross(&mut self, place: Place) -> Place {
        let there = self.view.cross(place, self.walker.witness());
        self.walker.witness().forget();
        there
    }

    pub(super) fn endings(
        &mut self,
        found: after_walk::Found<'_>,
        kind: FileKind,
        closed: Option<Ending>,
    ) -> Endings {
        match closed {
            Some(shut) if shut.cell != Cell::Open => Endings::all(kind, shut),
            _ if self.view.is_of_either_kind(found.there) || self.view.is_of_unknown_kind(found.there) => {
                self.of_either_kind(kind)
            }
            Some(shut) => self.profiled(found, kind).map(|ending| perhaps(*ending, shut)),
            None => self.profiled(found, kind),
        }
    }

    /// Makes the directory at `there` the next one to go through; how searching it ends, where that is asked.
    fn enter(&mut self, there: Place, closed: Option<Ending>, assumed: bool) -> Option<Ending> {
        let open = closed.is_none_or(|shut| shut.cell == Cell::Open);
        let entered = if open { Some(self.searchable(there)) } else { None };
        let shut = entered.filter(|ending| ending.cell != Cell::Allowed);
        let assumed = assumed || entered.is_some_and(|ending| ending.assumed);
        let within = match (closed, shut) {
            (Some(above), Some(shut)) if above.cell == Cell::Open => Some(perhaps(shut, above)),
            (closed, shut) => closed.or(shut),
        };
        self.levels.push(self.level(there, within, assumed));
        entered.filter(|_| closed.is_none())
    }

    fn level(&self, place: Place, closed: Option<Ending>, assumed: bool) -> Level {
        let count = place.inode.map_or(0, |dir| self.view.source(place).tree.child_count(dir));
        let children = if self.together { Entries::Unsorted(count) } else { Entries::Single(0..count) };
        Level { place, closed, assumed, children, path: self.path.len() }
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
        // A link's columns depend on where it points, a script's on its interpreter, and what is usual on the path.
        let own = kind != FileKind::Link
            && endings.of(Column::Run).check != Some(Check::Link)
            && endings.iter().all(|(_, ending)| ending.usual.is_none());
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
        let ended = decide(self.whole, verb, &self.path, &mut unwatched).map(drop);
        // What is taken for granted there is named by those who look at each possibility.
        let Unwatched { met_unknown, assumed } = unwatched;
        let ending = Ending::of(ended, met_unknown || assumed, None);
        let ending = self.exact(ending, |pass, w| decide(pass.whole, verb, &pass.path, w).map(drop));
        Ending { check: Some(Check::Link), ..ending }
    }

    /// What an engine's profile has a rule about is asked with the whole path, on which the profile goes by.
    fn profiled(&mut self, found: after_walk::Found<'_>, kind: FileKind) -> Endings {
        let endings = self.open(found, kind);
        if self.view.profile.is_none() || !is_near(&self.path) {
            return endings;
        }
        let concerned =
            |column: Column, ending: &Ending| ending.cell != Cell::Void && denied(&self.path, kind, column);
        let asked = PerColumn::from_fn(|column| {
            let ending = *endings.of(column);
            let cell = if concerned(column, &ending) { Cell::Open } else { Cell::Void };
            Ending { cell, ..ending }
        });
        let found = self.asked_whole(kind, asked);
        PerColumn::from_fn(|column| {
            let asked = asked.of(column).cell == Cell::Open;
            *if asked { &found } else { &endings }.of(column)
        })
    }

    /// What nobody knows to be a directory or a file: each column from the root of all.
    fn of_either_kind(&mut self, kind: FileKind) -> Endings {
        // As a file: what it is no question asks.
        self.asked_whole(FileKind::File, Endings::all(kind, Ending { cell: Cell::Open, ..Ending::default() }))
    }

    /// Each open column of `asked` with the whole path.
    fn asked_whole(&mut self, kind: FileKind, asked: Endings) -> Endings {
        let mut endings = asked;
        for (column, ending) in asked.iter().filter(|(_, ending)| ending.cell == Cell::Open) {
            let verb = column.verb(kind);
            let exact = self.exact(*ending, |pass, w| match &verb {
                Some(verb) => decide(pass.view, verb, &pass.path, w).map(drop),
                None => decide_new_entry(pass.view, NewKind::File, Mode::new(0o666), &pass.path, w).map(drop),
            });
            endings.set(column, exact);
        }
        endings
    }

    /// How a column ends that met a missing fact, whatever that turns out to be.
    fn settled(
        &mut self,
        found: after_walk::Found<'_>,
        (column, kind): (Column, FileKind),
        ending: Ending,
    ) -> Ending {
        self.exact(ending, |pass, w| {
            let mut walker = Walker::new(pass.view, w);
            walker.turn_to(pass.path.clone());
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
                    None => decide(pass.whole, &Verb::Runs, &pass.path, w).map(drop),
                },
            }
        })
    }

    fn searchable(&mut self, place: Place) -> Ending {
        let found = self.walker.permit(place, Access::EXECUTE);
        let ending = self.ending(found);
        self.exact(ending, |pass, w| {
            let mut walker = Walker::new(pass.view, w);
            walker.turn_to(pass.path.clone());
            walker.permit(place, Access::EXECUTE)
        })
    }

    fn ending(&mut self, result: Result<(), Errno>) -> Ending {
        self.walker.witness().ending(result)
    }

    fn exact(
        &mut self,
        ending: Ending,
        decide: impl Fn(&Self, &mut Explorer) -> Result<(), Errno>,
    ) -> Ending {
        let Exact { ending, usual, assumptions } = exact(ending, |w| decide(self, w));
        let recorder = self.walker.witness();
        recorder.usual.extend(usual);
        recorder.assumed.extend(assumptions);
        ending
    }
}
