//! What an actor can do to everything on a volume that is given as few entries that stand for many (a dataset's ways and classes): one
//! verdict for each of them, by the rules that answer every other question.

mod known;
mod root;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use mivask_model::mode::FileKind;
use mivask_model::mount::{MountId, SourceId};
use mivask_model::tree::{InodeId, Tree};
use mivask_rules::lookup::walk;
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

use crate::question::{Cell, Column, Ending, Endings, Event, PerColumn, SweepError, follow};
pub use known::Known;

/// What can be done to one entry of a volume where an actor has it.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Verdict {
    /// The entry.
    pub inode: InodeId,
    /// How each question ends.
    pub endings: Endings,
    /// The directory that may not be searched, where one above decides: an inode of the volume, or `None` where it is above that.
    pub barrier: Option<InodeId>,
    /// Whether a directory above decides.
    pub shut: bool,
}

/// What an actor can do to what a mount shows.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Judged {
    /// The mount.
    pub mount: MountId,
    /// The volume, of several possible ones the first.
    pub source: SourceId,
    /// The verdict about the root of what shows; `None` where something else is mounted on it.
    pub root: Option<Verdict>,
    /// Those about what is below. Where the same decides for several actors, they share them.
    pub below: Result<Arc<[Verdict]>, SweepError>,
}

/// Every verdict of `actor` about what shows through its mounts of the sources that are `wanted`; what another mount hides has none. Of a
/// link there is one about its removal only: the rest is said of what it points to. Of an actor that may be several, what differs
/// between them is open.
pub fn verdicts(
    stage: &Stage,
    actor: &Actor,
    wanted: &dyn Fn(SourceId) -> bool,
    known: &Known,
) -> Vec<Judged> {
    let covered: BTreeSet<(MountId, InodeId)> = actor.mounts.covered().collect();
    let mut all = Vec::new();
    for (number, mount) in actor.mounts.iter().filter(|(_, mount)| wanted(mount.variants[0].source)) {
        let at = mount.facts.at.to_vec();
        let source = mount.variants[0].source;
        let root = match mount.root {
            Some(inode) if covered.contains(&(number, inode)) => None,
            Some(_) | None => root::root(stage, actor, (number, &at)),
        };
        let inside = covered.range((number, Tree::ROOT)..).next().is_some_and(|(mount, _)| *mount == number);
        let key = if inside { None } else { known.rests_on(stage, actor, number, root.as_ref()) };
        let below = match key.as_ref().and_then(|key| known.get(key)) {
            Some(told) => Ok(told),
            None => below(stage, actor, (number, &at)).map(|below| match key {
                Some(key) => known.keep(key, &stage.source(source).tree, below.into()),
                None => below.into(),
            }),
        };
        all.push(Judged { mount: number, source, root, below });
    }
    all
}

/// The verdicts about what is below the root of what a mount shows.
fn below(stage: &Stage, actor: &Actor, (number, at): (MountId, &[u8])) -> Result<Vec<Verdict>, SweepError> {
    let mut merged: BTreeMap<InodeId, Verdict> = BTreeMap::new();
    for which in 0..actor.credentials.len().max(1) {
        for verdict in of_mount(stage, actor, (which, number), at)? {
            merged
                .entry(verdict.inode)
                .and_modify(|known| known.endings = both(&known.endings, &verdict.endings))
                .or_insert(verdict);
        }
    }
    Ok(merged.into_values().collect())
}

fn of_mount(
    stage: &Stage,
    actor: &Actor,
    (which, number): (usize, MountId),
    at: &[u8],
) -> Result<Vec<Verdict>, SweepError> {
    let mut all: Vec<Verdict> = Vec::new();
    let mut last: Option<(usize, InodeId)> = None;
    // The directory that is shut, and how many are above what is in it.
    let mut shut: Option<(usize, Option<InodeId>)> = None;
    follow(stage, actor, which, at, |event| match event {
        Event::Entry(swept) => {
            if shut.is_some_and(|(depth, _)| swept.depth < depth) {
                shut = None;
            }
            let Some(inode) = swept.place.inode else { return };
            last = Some((swept.depth, inode));
            if swept.place.mount == number {
                let barrier = shut.filter(|_| swept.shut).and_then(|(_, barrier)| barrier);
                let endings =
                    if swept.kind == FileKind::Link { removal(&swept.endings) } else { swept.endings };
                all.push(Verdict { inode, endings, barrier, shut: swept.shut });
            }
        }
        Event::Shut(_) => {
            shut = Some(last.map_or((0, None), |(depth, inode)| (depth + 1, Some(inode))));
        }
        Event::Leave => {}
    })?;
    Ok(all)
}

/// What is said of a link itself.
fn removal(endings: &Endings) -> Endings {
    PerColumn::from_fn(|column| match column {
        Column::Delete => *endings.of(column),
        Column::Read | Column::Write | Column::Create | Column::List | Column::Enter | Column::Run => {
            Ending::default()
        }
    })
}

/// The source of the last directory on the way to `path`, links followed, whoever goes there; `None` where there is no such way.
#[must_use]
pub fn leads_to(stage: &Stage, actor: &Actor, path: &[u8]) -> Option<SourceId> {
    walk(&stage.storage, &actor.mounts, path, Follow::Links).ok().map(|end| end.directory.source)
}

/// What both agree on.
fn both(one: &Endings, other: &Endings) -> Endings {
    PerColumn::from_fn(|column| {
        let (one, other) = (*one.of(column), *other.of(column));
        if one.cell == other.cell { one } else { Ending { cell: Cell::Open, ..Ending::default() } }
    })
}
