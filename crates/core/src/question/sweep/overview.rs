//! A sweep summed up: how many inodes end how, and why; which directories keep an actor out.

use std::collections::BTreeMap;
use std::sync::Arc;

use mivask_model::mode::Mode;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

use super::column::{Cell, Column, Ending, PerColumn};
use super::{Event, RestsOn, SweepError, Swept, go};
use crate::question::PathFacts;
use crate::question::facts::facts_of;

/// How many directories are named that keep an actor out.
const NAMED: usize = 10;

/// What one actor can do below one directory.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Overview {
    /// The actor's name.
    pub actor: String,
    /// What must hold for this identity of an actor that may be several; empty where it is one.
    pub when: Arc<str>,
    /// The directory.
    pub start: Vec<u8>,
    /// How many entries were asked about.
    pub entries: u64,
    /// Whether the directory itself may hold more than is listed.
    pub unlisted: bool,
    /// The endings of each column, the most frequent first.
    pub shares: Vec<Share>,
    /// The directories that shut off most, the worst first.
    pub blockers: Vec<Blocker>,
    /// How many directories shut something off.
    pub blocking: u64,
    /// What the endings rest on.
    pub rests_on: RestsOn,
}

/// How many entries share one ending.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Share {
    /// The question.
    pub column: Column,
    /// How it ends.
    pub ending: Ending,
    /// Whether a directory above decides.
    pub shut: bool,
    /// How many entries.
    pub entries: u64,
    /// In how many directories they lie.
    pub directories: u64,
}

/// A directory that may not be searched.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Blocker {
    /// Its path inside.
    pub path: Vec<u8>,
    /// Why not.
    pub ending: Ending,
    /// How many entries are below it.
    pub entries: u64,
    /// Its owner, group and mode.
    pub facts: Option<PathFacts>,
}

/// Sums up what `actor`, in its possible identity number `which`, can do below `start`, of the entries that `wanted` picks; `list` is known of each of them.
///
/// # Errors
/// As for [`sweep`](super::sweep()).
pub fn overview(
    stage: &Stage,
    actor: &Actor,
    which: usize,
    start: &[u8],
    wanted: impl FnMut(&Swept<'_>) -> bool,
    list: impl FnMut(&Swept<'_>),
) -> Result<Overview, SweepError> {
    sum_up(stage, actor, (which, start), false, wanted, list)
}

/// The same where no entry is listed, and `wanted` does not go by paths: entries of a directory of which the same is told are counted together.
///
/// # Errors
/// As for [`sweep`](super::sweep()).
pub fn summed(
    stage: &Stage,
    actor: &Actor,
    which: usize,
    start: &[u8],
    wanted: impl FnMut(&Swept<'_>) -> bool,
) -> Result<Overview, SweepError> {
    sum_up(stage, actor, (which, start), true, wanted, |_| ())
}

fn sum_up(
    stage: &Stage,
    actor: &Actor,
    (which, start): (usize, &[u8]),
    together: bool,
    mut wanted: impl FnMut(&Swept<'_>) -> bool,
    mut list: impl FnMut(&Swept<'_>),
) -> Result<Overview, SweepError> {
    let mut sums = Sums { levels: vec![Level::default()], ..Sums::default() };
    let mut latest = (start.to_vec(), None);
    let mut rests_on = go(stage, actor, (which, start), together, |event| match event {
        Event::Entry(swept) => {
            sums.seen(swept.alike);
            if wanted(&swept) {
                list(&swept);
                // That a file of data does not run is true, but nothing to look at.
                let tree = &stage.source(swept.place.source).tree;
                let mode = swept.place.inode.and_then(|id| tree.mode(id).value());
                let data = mode.is_some_and(|mode| !mode.has_any(Mode::ANY_EXECUTE));
                sums.add(&swept, data);
            }
            if swept.kind == mivask_model::mode::FileKind::Directory {
                sums.levels.push(Level::default());
                latest.0.clear();
                latest.0.extend_from_slice(swept.path);
                latest.1 = Some(swept.place);
            }
        }
        // One that usually lets pass is in nobody's way.
        Event::Shut(ending) if ending.usual == Some(Cell::Allowed) => {}
        Event::Shut(ending) => {
            let facts = match latest.1 {
                Some(place) => facts_of(stage, actor, place),
                None => crate::question::facts_at(stage, actor, start),
            };
            sums.shut(Blocker { path: latest.0.clone(), ending, entries: 0, facts });
        }
        Event::Leave => sums.leave(),
    })?;
    let mut shares = sums.shares;
    // Of what was not picked nothing is told.
    if !shares.iter().any(|share| share.ending.usual.is_some()) {
        rests_on.usual.clear();
    }
    shares.sort_by_key(|share| (share.column, std::cmp::Reverse(share.entries)));
    Ok(Overview {
        actor: actor.name.to_string(),
        when: actor.identity.possible.get(which).map_or_else(|| Arc::from(""), |(when, _)| when.clone()),
        start: start.to_vec(),
        entries: sums.entries,
        unlisted: is_unlisted(stage, actor, start),
        shares,
        blockers: sums.blockers,
        blocking: sums.blocking,
        rests_on,
    })
}

/// Whether not all is known that is in the directory at `start`.
fn is_unlisted(stage: &Stage, actor: &Actor, start: &[u8]) -> bool {
    let Ok(Sight::There(place)) = look(&stage.storage, &actor.mounts, start, Follow::Links) else {
        return false;
    };
    place.inode.is_some_and(|id| stage.source(place.source).tree.is_unlisted(id))
}

/// A directory whose entries are being told.
#[derive(Default)]
struct Level {
    /// The shares that already count this directory.
    counted: Vec<u32>,
    /// What it shuts off, if it is the one that does.
    blocker: Option<Blocker>,
    /// Entries below it so far, where that matters.
    entries: u64,
}

#[derive(Default)]
struct Sums {
    entries: u64,
    shares: Vec<Share>,
    known: BTreeMap<(Column, Ending, bool), u32>,
    /// For each column the share of the last entry, since neighbours are mostly alike.
    latest: PerColumn<Option<(Ending, bool, u32)>>,
    levels: Vec<Level>,
    blockers: Vec<Blocker>,
    blocking: u64,
}

impl Sums {
    fn seen(&mut self, alike: u64) {
        if let Some(level) = self.levels.last_mut() {
            level.entries += alike;
        }
    }

    fn add(&mut self, swept: &Swept<'_>, data: bool) {
        self.entries += swept.alike;
        for (column, ending) in swept.endings.iter() {
            // What is taken for granted is listed below the sums, and parts none of them.
            let ending = Ending { assumed: false, ..*ending };
            let not_run = data && column == Column::Run && matches!(ending.cell, Cell::Denied(_));
            if ending.cell == Cell::Void || not_run {
                continue;
            }
            let share = self.share(column, ending, swept.shut);
            self.shares[share as usize].entries += swept.alike;
            if let Some(level) = self.levels.last_mut()
                && !level.counted.contains(&share)
            {
                level.counted.push(share);
                self.shares[share as usize].directories += 1;
            }
        }
    }

    fn share(&mut self, column: Column, ending: Ending, shut: bool) -> u32 {
        if let Some((latest, was_shut, share)) = *self.latest.of(column)
            && latest == ending
            && was_shut == shut
        {
            return share;
        }
        let next = u32::try_from(self.shares.len()).unwrap_or(u32::MAX);
        let share = *self.known.entry((column, ending, shut)).or_insert(next);
        if share == next {
            self.shares.push(Share { column, ending, shut, entries: 0, directories: 0 });
        }
        self.latest.set(column, Some((ending, shut, share)));
        share
    }

    fn shut(&mut self, blocker: Blocker) {
        self.blocking += 1;
        if let Some(level) = self.levels.last_mut() {
            level.blocker = Some(blocker);
        }
    }

    fn leave(&mut self) {
        let Some(level) = self.levels.pop() else { return };
        if let Some(above) = self.levels.last_mut() {
            above.entries += level.entries;
        }
        let Some(blocker) = level.blocker else { return };
        if level.entries == 0 {
            self.blocking -= 1;
            return;
        }
        let blocker = Blocker { entries: level.entries, ..blocker };
        let slot = self.blockers.partition_point(|other| other.entries >= blocker.entries);
        if slot < NAMED {
            self.blockers.insert(slot, blocker);
            self.blockers.truncate(NAMED);
        }
    }
}
