//! The matrix over a whole tree in one pass, for trees of millions of inodes.
//!
//! Walking to each path anew costs its depth in look-ups for every column. A sweep goes through the tree once and
//! carries along whether the directories above let the actor through; what is left for each inode are the
//! checks behind the walk, the same functions that single acts end with.

use crate::act::Verb;
use crate::decide::{decide, judge};
use crate::mode::{Access, FileKind};
use crate::outcome::Errno;
use crate::stage::{Actor, Stage};
use crate::view::{Place, View};
use crate::walk::{Follow, Walker};
use crate::witness::Unwatched;

/// One cell of the matrix, small enough to keep millions of.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Cell {
    /// The question makes no sense for that kind of file.
    Void,
    /// It succeeds.
    Allowed,
    /// It fails.
    Denied(Errno),
    /// It hangs on a fact nobody told; [`access`](super::access()) says on which.
    Open,
}

/// One inode with its seven columns.
#[derive(Clone, Copy, Debug)]
pub struct Swept<'a> {
    /// Its path inside.
    pub path: &'a [u8],
    /// What it is; what is mounted on it counts.
    pub kind: FileKind,
    /// Read its content.
    pub read: Cell,
    /// Write to it.
    pub write: Cell,
    /// Create something in the directory.
    pub create: Cell,
    /// Remove it.
    pub delete: Cell,
    /// List the directory.
    pub list: Cell,
    /// Enter the directory.
    pub enter: Cell,
    /// Run the file.
    pub run: Cell,
}

/// Why there is nothing to sweep.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum SweepError {
    /// The actor never runs, or may be several.
    #[error("the actor's identity is not settled")]
    Actor,
    /// Not even root gets to the start.
    #[error("{0} ({meaning})", meaning = .0.meaning())]
    Start(Errno),
}

/// A directory on the way.
struct Level {
    place: Place,
    /// What stops the actor from searching it, or a directory above.
    closed: Option<Cell>,
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
    visit: impl FnMut(Swept<'_>),
) -> Result<(), SweepError> {
    let (None, [who]) = (actor.refusal(), actor.credentials.as_slice()) else {
        return Err(SweepError::Actor);
    };
    let place = match crate::onlooker::look(stage, &actor.mounts, start, Follow::Links) {
        Ok(crate::onlooker::Sight::There(place)) => place,
        Ok(_) => return Err(SweepError::Start(Errno::ENOENT)),
        Err(errno) => return Err(SweepError::Start(errno)),
    };
    let mut view = View::new(stage, &actor.mounts, who, "");
    view.all_devices = actor.all_devices;
    let mut unwatched = Unwatched::default();
    let entered = decide(&view, &Verb::Enters, start, &mut unwatched).map(drop);
    let closed = Some(cell(entered, unwatched.met_unknown)).filter(|cell| *cell != Cell::Allowed);
    let end = start.iter().rposition(|byte| *byte != b'/').map_or(0, |last| last + 1);
    let mut unwatched = Unwatched::default();
    Sweep { view: &view, walker: Walker::new(&view, &mut unwatched), path: start[..end].to_vec(), visit }
        .below(place, closed);
    Ok(())
}

struct Sweep<'v, 'w, F> {
    view: &'v View<'v>,
    walker: Walker<'v, 'w, Unwatched>,
    path: Vec<u8>,
    visit: F,
}

impl<F: FnMut(Swept<'_>)> Sweep<'_, '_, F> {
    fn below(&mut self, place: Place, closed: Option<Cell>) {
        let view = self.view;
        let mut levels = vec![self.level(place, closed)];
        while let Some(level) = levels.last_mut() {
            let (directory, closed, length) = (level.place, level.closed, level.path);
            let next = level.children.next().zip(directory.inode);
            let entry = next.and_then(|(index, dir)| view.source(directory).tree.child(dir, index));
            let Some((name, inode)) = entry else {
                levels.pop();
                continue;
            };
            self.path.truncate(length);
            self.path.push(b'/');
            self.path.extend_from_slice(name);
            let place = Place { inode: Some(inode), ..directory };
            let there = view.cross(place, self.walker.witness());
            let found = judge::Found { directory, name, place, there };
            let kind = view.inode(there).map_or(FileKind::Directory, |inode| inode.kind);
            let swept = match closed {
                Some(shut) => everything(kind, shut),
                None => self.open(found, kind),
            };
            (self.visit)(Swept { path: &self.path, ..swept });
            if kind == FileKind::Directory {
                let closed = closed.or_else(|| self.searchable(there));
                levels.push(self.level(there, closed));
            }
        }
    }

    fn level(&self, place: Place, closed: Option<Cell>) -> Level {
        let count = place.inode.map_or(0, |dir| self.view.source(place).tree.child_count(dir));
        Level { place, closed, children: 0..count, path: self.path.len() }
    }

    /// The columns of an entry whose directory can be searched; the path is still to be filled in.
    fn open(&mut self, found: judge::Found<'_>, kind: FileKind) -> Swept<'static> {
        let delete = judge::deletes(&mut self.walker, found, kind == FileKind::Directory);
        let delete = self.cell(delete);
        let void = Swept { delete, ..everything(kind, Cell::Void) };
        match kind {
            FileKind::Directory => {
                let create = judge::creates(&mut self.walker, found.there);
                let create = self.cell(create);
                let list = judge::lists(&mut self.walker, found.there);
                let list = self.cell(list);
                let enter = judge::enters(&mut self.walker, found.there);
                let enter = self.cell(enter);
                Swept { create, list, enter, ..void }
            }
            FileKind::Link => {
                let (read, write) = (self.act(&Verb::Reads), self.act(&Verb::Writes));
                Swept { read, write, ..void }
            }
            FileKind::File
            | FileKind::Fifo
            | FileKind::Socket
            | FileKind::CharDevice
            | FileKind::BlockDevice => {
                let read = judge::reads(&mut self.walker, found);
                let read = self.cell(read);
                let write = judge::writes(&mut self.walker, found);
                let write = self.cell(write);
                let run = if kind == FileKind::File { self.run(found) } else { Cell::Void };
                Swept { read, write, run, ..void }
            }
        }
    }

    fn run(&mut self, found: judge::Found<'_>) -> Cell {
        match judge::runs(&mut self.walker, found.there) {
            Some(result) => self.cell(result),
            // A script's interpreter lies elsewhere.
            None => self.act(&Verb::Runs),
        }
    }

    /// A column that takes a walk of its own.
    fn act(&mut self, verb: &Verb) -> Cell {
        let mut unwatched = Unwatched::default();
        let ended = decide(self.view, verb, &self.path, &mut unwatched).map(drop);
        cell(ended, unwatched.met_unknown)
    }

    fn searchable(&mut self, place: Place) -> Option<Cell> {
        let found = self.walker.permit(place, Access::EXECUTE);
        Some(self.cell(found)).filter(|cell| *cell != Cell::Allowed)
    }

    fn cell(&mut self, result: Result<(), Errno>) -> Cell {
        let met = std::mem::take(&mut self.walker.witness().met_unknown);
        cell(result, met)
    }
}

fn cell(result: Result<(), Errno>, met_unknown: bool) -> Cell {
    match result {
        _ if met_unknown => Cell::Open,
        Ok(()) => Cell::Allowed,
        Err(errno) => Cell::Denied(errno),
    }
}

/// A row whose columns are all alike, as far as they make sense for `kind`.
const fn everything(kind: FileKind, cell: Cell) -> Swept<'static> {
    let directory = matches!(kind, FileKind::Directory);
    let (of_directories, of_others) = if directory { (cell, Cell::Void) } else { (Cell::Void, cell) };
    Swept {
        path: &[],
        kind,
        read: of_others,
        write: of_others,
        create: of_directories,
        delete: cell,
        list: of_directories,
        enter: of_directories,
        run: if matches!(kind, FileKind::File) { cell } else { Cell::Void },
    }
}
