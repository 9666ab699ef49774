//! Everything one actor can do something to: the other way round than [`admissions`](super::admissions).

use mivask_model::mode::FileKind;
use mivask_model::mount::MountOrigin;
use mivask_rules::settle::Outcome;
use mivask_stage::stage::{Actor, Stage};

use super::access::access;
use super::sweep::{Cell, Column, Event, SweepError, follow};

/// A path that an actor reaches, or a whole subtree.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Reached {
    /// The path inside.
    pub path: Vec<u8>,
    /// What is there.
    pub kind: FileKind,
    /// How many entries are below it, where all of them are reached as well, so that they are not given one by one.
    pub below: Option<usize>,
}

/// One entry with whether it is reached; `None` where the question makes no sense for it.
struct Entry {
    path: Vec<u8>,
    kind: FileKind,
    reached: Option<bool>,
}

/// Everything below `start` that `actor` can do `to`: write means changing files and creating in directories, read means
/// listing directories too. What the runtime hides is left out.
///
/// # Errors
/// The actor never runs or may be several, or nothing is known to be at `start`.
pub fn reached(stage: &Stage, actor: &Actor, start: &[u8], to: Column) -> Result<Vec<Reached>, SweepError> {
    if actor.credentials.len() > 1 {
        return Err(SweepError::Actor);
    }
    let mut entries = vec![first(stage, actor, start, to)];
    follow(stage, actor, 0, start, |event| {
        if let Event::Entry(swept) = event {
            // A file that the runtime hides behind /dev/null takes everything and keeps nothing.
            let hidden = actor.mounts.get(swept.place.mount).origin == MountOrigin::Shield;
            let reached = match swept.cell(column(to, swept.kind)) {
                _ if hidden => None,
                Cell::Void => None,
                Cell::Allowed => Some(true),
                Cell::Denied(_) | Cell::Open => Some(false),
            };
            entries.push(Entry { path: swept.path.to_vec(), kind: swept.kind, reached });
        }
    })?;
    let mut all = Vec::new();
    let mut at = 0;
    while at < entries.len() {
        let folded = fold(&entries, at);
        all.extend(folded.given);
        at = folded.next;
    }
    Ok(all)
}

fn first(stage: &Stage, actor: &Actor, start: &[u8], to: Column) -> Entry {
    let row = access(stage, actor, start);
    let kind = row.facts.map_or(FileKind::Directory, |facts| facts.kind);
    let cell = row.cells.of(column(to, kind));
    Entry { path: start.to_vec(), kind, reached: cell.as_ref().map(|outcome| *outcome == Outcome::Allowed) }
}

/// What the word means for a directory.
const fn column(to: Column, kind: FileKind) -> Column {
    match (to, kind) {
        (Column::Write, FileKind::Directory) => Column::Create,
        (Column::Read, FileKind::Directory) => Column::List,
        (to, _) => to,
    }
}

/// What is known of one entry and everything below it.
struct Folded {
    given: Vec<Reached>,
    /// Whether all of it is reached, as far as the question makes sense.
    whole: bool,
    /// How many entries below the first one the question makes sense for.
    count: usize,
    next: usize,
}

fn fold(entries: &[Entry], at: usize) -> Folded {
    let here = &entries[at];
    let prefix = [here.path.strip_suffix(b"/").unwrap_or(&here.path), b"/"].concat();
    let mut folded = Folded { given: Vec::new(), whole: here.reached != Some(false), count: 0, next: at + 1 };
    while let Some(child) = entries.get(folded.next).filter(|child| child.path.starts_with(&prefix)) {
        let sense = usize::from(child.reached.is_some());
        let below = fold(entries, folded.next);
        folded.given.extend(below.given);
        folded.whole &= below.whole;
        folded.count += below.count + sense;
        folded.next = below.next;
    }
    let reached = here.reached == Some(true);
    if folded.whole && reached && folded.count > 0 {
        folded.given = vec![Reached { path: here.path.clone(), kind: here.kind, below: Some(folded.count) }];
    } else if reached {
        folded.given.insert(0, Reached { path: here.path.clone(), kind: here.kind, below: None });
    }
    folded
}
