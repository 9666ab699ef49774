//! Which paths of an actor a line meets, and which acts it means by them.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use mivask_model::act::Verb;
use mivask_model::glob::{Globs, PatternError};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::SourceId;
use mivask_model::path::{or_root, trimmed};
use mivask_model::tree::InodeId;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

use super::Paths;
use super::matching::{Matching, is_pattern};
use crate::question::{Column, Ending, Event, Swept, facts_at, follow, free_path};

/// An inode, whoever sees it.
pub(super) type Object = (SourceId, InodeId);

/// A path that is met.
#[derive(Clone, Copy, Debug)]
pub(super) struct Met {
    /// What is there; `None` where nothing is, or nothing is known.
    pub kind: Option<FileKind>,
    /// How the verb ends there, where that is known without asking.
    pub ending: Option<Ending>,
    /// What it is.
    pub object: Option<Object>,
    /// Whether what is below it is meant as well, where it is not listed.
    pub deep: bool,
}

impl Met {
    /// Something that no one lists.
    pub(super) const fn unlisted(deep: bool) -> Self {
        Self { kind: None, ending: None, object: None, deep }
    }
}

/// What is met.
#[derive(Default)]
pub(super) struct Meeting {
    /// The paths, in order.
    pub at: BTreeMap<Vec<u8>, Met>,
    /// What the endings that are assumed rest on.
    pub assumptions: BTreeSet<Arc<str>>,
}

impl Meeting {
    pub(super) fn insert(&mut self, path: Vec<u8>, met: Met) {
        self.at.insert(path, met);
    }
}

/// The column that answers for `verb` on something of that kind, where one does.
fn column(verb: &Verb, kind: FileKind) -> Option<Column> {
    let directory = kind == FileKind::Directory;
    let answers: [(Verb, Column); 6] = [
        (Verb::Reads, if directory { Column::List } else { Column::Read }),
        (Verb::Writes, if directory { Column::Create } else { Column::Write }),
        (Verb::Deletes, Column::Delete),
        (Verb::Lists, Column::List),
        (Verb::Enters, Column::Enter),
        (Verb::Runs, Column::Run),
    ];
    answers.into_iter().find(|(known, _)| known == verb).map(|(_, column)| column)
}

/// What a verb comes to, where the same is asked of files and directories.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Sense {
    /// Writing to a file is creating in a directory.
    Content,
    /// Reading a file is listing a directory.
    Read,
    /// unlink or rmdir.
    Delete,
    /// Something new, in a directory.
    New,
    /// Makes sense for directories alone.
    Directory,
    /// Makes sense for files alone.
    File,
    /// The same for all.
    Any,
}

const fn sense(verb: &Verb) -> Sense {
    match verb {
        Verb::Writes
        | Verb::Appends
        | Verb::Truncates
        | Verb::Updates
        | Verb::Overwrites
        | Verb::Extends
        | Verb::Shortens => Sense::Content,
        Verb::Reads => Sense::Read,
        Verb::Deletes => Sense::Delete,
        Verb::Creates(_)
        | Verb::MakesDirectory(_)
        | Verb::MakesFifo(_)
        | Verb::MakesNode(..)
        | Verb::Points(_) => Sense::New,
        Verb::Lists | Verb::Enters | Verb::RemovesDirectory => Sense::Directory,
        Verb::Runs => Sense::File,
        Verb::Inspects
        | Verb::InspectsLink
        | Verb::MayRead
        | Verb::MayWrite
        | Verb::MayRun
        | Verb::Links(_)
        | Verb::LinksTarget(_)
        | Verb::Renames(_)
        | Verb::RenamesNew(_)
        | Verb::Exchanges(_)
        | Verb::SetsDefaultAcl(_)
        | Verb::RemovesAcl
        | Verb::RemovesDefaultAcl
        | Verb::ReadsTag(_)
        | Verb::SetsMode(_)
        | Verb::SetsOwner(_)
        | Verb::SetsGroup(_)
        | Verb::SetsLinkOwner(_)
        | Verb::SetsLinkGroup(_)
        | Verb::SetsAcl(_)
        | Verb::Stamps
        | Verb::Backdates
        | Verb::Tags(_) => Sense::Any,
    }
}

/// The act that `verb` means for something of that kind: with directories, writing is creating in them, reading is
/// listing them. `None` where it makes no sense.
pub(super) fn meant(
    stage: &Stage,
    actor: &Actor,
    verb: &Verb,
    path: &[u8],
    kind: Option<FileKind>,
) -> Option<(Verb, Vec<u8>)> {
    let same = Some((verb.clone(), path.to_vec()));
    let Some(kind) = kind else { return same };
    match (sense(verb), kind == FileKind::Directory) {
        (Sense::Content, true) => Some((Verb::Creates(Mode::new(0o666)), free_path(stage, actor, path))),
        (Sense::New, true) => Some((verb.clone(), free_path(stage, actor, path))),
        (Sense::Read, true) => Some((Verb::Lists, path.to_vec())),
        (Sense::Delete, true) => Some((Verb::RemovesDirectory, path.to_vec())),
        (Sense::New | Sense::Directory, false) | (Sense::File, true) => None,
        (Sense::File, false) if kind == FileKind::File => same,
        (Sense::File, false) => None,
        (Sense::Content | Sense::Read | Sense::Delete | Sense::Any, false)
        | (Sense::Directory | Sense::Any, true) => same,
    }
}

/// What `paths` meets in what `actor` sees.
pub(super) fn met(
    stage: &Stage,
    actor: &Actor,
    verb: Option<&Verb>,
    paths: &Paths,
    globs: &dyn Globs,
) -> Result<Meeting, PatternError> {
    let mut meeting = Meeting::default();
    let literal = &paths.pattern;
    let sight = look(&stage.storage, &actor.mounts, literal, Follow::Links);
    // A name may hold such a character: what exists under this very name is taken literally.
    if !is_pattern(literal) || matches!(sight, Ok(Sight::There(_))) {
        let object =
            if let Ok(Sight::There(place)) = sight { place.inode.map(|id| (place.source, id)) } else { None };
        let kind = facts_at(stage, actor, literal).map(|facts| facts.kind);
        meeting.insert(literal.clone(), Met { kind, ending: None, object, deep: false });
        return Ok(meeting);
    }
    let matching = Matching::new(paths, globs)?;
    let base = or_root(&matching.base).to_vec();
    match look(&stage.storage, &actor.mounts, &base, Follow::Links) {
        Ok(Sight::There(place)) => {
            let object = place.inode.map(|id| (place.source, id));
            let kind = facts_at(stage, actor, &base).map(|facts| facts.kind);
            if matching.is(&base) {
                meeting.insert(base.clone(), Met { kind, ending: None, object, deep: false });
            }
            if kind == Some(FileKind::Directory) {
                let meant = |swept: &Swept<'_>| matching.is(swept.path) && !matching.is_elsewhere(swept.path);
                add(stage, actor, verb, &base, &meant, &mut meeting);
                unlisted(stage, actor, &matching, &base, &mut meeting);
            }
        }
        Ok(Sight::Unlisted) => {
            let any = [trimmed(&base), b"/*"].concat();
            let first = if matching.is(&base) { base } else { any };
            let deep = matching.is_deep_in(&first);
            meeting.insert(first, Met::unlisted(deep));
        }
        Ok(Sight::Missing) | Err(_) => {}
    }
    Ok(meeting)
}

/// Adds what is `wanted` below `start`.
pub(super) fn add(
    stage: &Stage,
    actor: &Actor,
    verb: Option<&Verb>,
    start: &[u8],
    wanted: &dyn Fn(&Swept<'_>) -> bool,
    meeting: &mut Meeting,
) {
    for which in 0..actor.credentials.len() {
        // What cannot be swept has nothing to meet.
        let found = follow(stage, actor, which, start, |event| {
            let Event::Entry(swept) = event else { return };
            if !wanted(&swept) {
                return;
            }
            let column = verb.and_then(|verb| column(verb, swept.kind));
            let ending = column.map(|column| *swept.endings.of(column));
            let object = swept.place.inode.map(|id| (swept.place.source, id));
            let met = Met { kind: Some(swept.kind), ending, object, deep: false };
            meeting
                .at
                .entry(swept.path.to_vec())
                // Where one possible identity may and another may not, it has to be asked.
                .and_modify(|known| known.ending = known.ending.filter(|known| Some(*known) == ending))
                .or_insert(met);
        });
        meeting.assumptions.extend(found.into_iter().flat_map(|rests_on| rests_on.assumptions));
    }
}

/// Adds, for each directory whose listing is not complete, something in it that is not listed.
fn unlisted(stage: &Stage, actor: &Actor, matching: &Matching, base: &[u8], meeting: &mut Meeting) {
    let mut directories = vec![base.to_vec()];
    let _ = follow(stage, actor, 0, base, |event| {
        if let Event::Entry(swept) = event
            && swept.kind == FileKind::Directory
            && !swept.shut
        {
            directories.push(swept.path.to_vec());
        }
    });
    directories.retain(|directory| matching.may_lie_in(directory) && !matching.is_elsewhere(directory));
    for directory in directories {
        // Some file may be called so.
        let mut path = [trimmed(&directory), b"/*"].concat();
        while matches!(look(&stage.storage, &actor.mounts, &path, Follow::AllButLast), Ok(Sight::There(_))) {
            path.push(b'*');
        }
        if look(&stage.storage, &actor.mounts, &path, Follow::AllButLast) == Ok(Sight::Unlisted) {
            let deep = matching.is_deep_in(&path);
            meeting.insert(path, Met::unlisted(deep));
        }
    }
}
