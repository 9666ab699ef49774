//! The matrix: actors x paths x what can be done.

use mivask_model::act::Verb;
use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::{MountOrigin, MountTable};
use mivask_model::outcome::Verdict;
use mivask_model::path::trimmed;
use mivask_model::tree::{InodeId, Tree};
use mivask_model::usual::{Usual, UsualRule};
use mivask_rules::decide::{decide, decide_new_entry};
use mivask_rules::imprint::NewKind;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::settle::{Outcome, settle};
use mivask_rules::walk::Follow;
use mivask_rules::witness::Unwatched;
use mivask_stage::stage::{Actor, Stage};

use super::ask::explored;
use super::facts::{PathFacts, facts_of};
use super::start::{if_it_starts, usually_if_it_starts};
use super::sweep::{Column, PerColumn};

/// One actor and one path.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct AccessRow {
    /// The actor's name.
    pub actor: String,
    /// The path inside.
    pub path: Vec<u8>,
    /// What is there, where it is known.
    pub facts: Option<PathFacts>,
    /// Whether nothing is there for certain.
    pub missing: bool,
    /// Whether something is mounted there: nobody deletes that.
    pub mount_point: bool,
    /// How many known entries below it have no row of their own, in the rows of [`default_rows`].
    pub deeper: usize,
    /// What the actor can do; `None` where the question makes no sense for that kind of file.
    pub cells: PerColumn<Option<Outcome>>,
    /// What it usually can, where that depends on missing facts and each is usually one way.
    pub usually: PerColumn<Option<Outcome>>,
}

impl AccessRow {
    /// Whether something in it is only usual.
    #[must_use]
    pub fn is_usual(&self) -> bool {
        self.usually.iter().any(|(_, usual)| usual.is_some())
    }
}

/// The row of `actor` for `path`.
#[must_use]
pub fn access(stage: &Stage, actor: &Actor, path: &[u8]) -> AccessRow {
    let sight = look(&stage.storage, &actor.mounts, path, Follow::Links);
    let link = link(stage, actor, path);
    let facts = match sight {
        Ok(Sight::There(place)) => facts_of(stage, actor, place),
        Ok(Sight::Unlisted) => None,
        // It points at nothing, or at itself: what is there is the link.
        Ok(Sight::Missing) | Err(_) => link,
    };
    let missing = matches!(sight, Ok(Sight::Missing) | Err(_)) && link.is_none();
    let kind = facts.map(|facts| facts.kind);
    let is_directory = kind == Some(FileKind::Directory);
    let is_unknown = kind.is_none() && !missing;
    // Something is there, a directory or a file: every question makes sense for one of them.
    let is_either = is_unknown && matches!(sight, Ok(Sight::There(_)));
    let is_file = kind.is_some_and(|kind| kind != FileKind::Directory);
    let question = |column| match column {
        Column::Read if is_file || is_unknown => Some(What::Act(Verb::Reads)),
        Column::Write if is_file || is_unknown => Some(What::Act(Verb::Writes)),
        Column::Create if is_directory || is_either => Some(What::NewEntry),
        // For a missing path: create it.
        Column::Create if kind.is_none() => Some(What::Act(Verb::Creates(Mode::new(0o666)))),
        // What goes is the name, and a link to a directory is not a directory.
        Column::Delete if is_directory && link.is_none() => Some(What::Act(Verb::RemovesDirectory)),
        Column::Delete if !missing => Some(What::Act(Verb::Deletes)),
        Column::List if is_directory || is_either => Some(What::Act(Verb::Lists)),
        Column::Enter if is_directory || is_either => Some(What::Act(Verb::Enters)),
        Column::Run if kind == Some(FileKind::File) || is_unknown => Some(What::Act(Verb::Runs)),
        Column::Read
        | Column::Write
        | Column::Create
        | Column::Delete
        | Column::List
        | Column::Enter
        | Column::Run => None,
    };
    let both = PerColumn::from_fn(|column| Some(outcome(stage, actor, path, &question(column)?)));
    let usually = PerColumn::from_fn(|column| both.of(column).as_ref()?.1.clone());
    let cells = both.map(|cell| cell.as_ref().map(|(outcome, _)| outcome.clone()));
    let plain = trimmed(path);
    let on = |at: &[u8]| trimmed(at) == plain;
    let mount_point = actor.mounts.iter().any(|(_, mount)| on(&mount.facts.at) && mount.on.is_some());
    let actor = actor.name.to_string();
    AccessRow { actor, path: path.to_vec(), facts, missing, mount_point, deeper: 0, cells, usually }
}

/// The link that the last name of `path` is, if it is one.
fn link(stage: &Stage, actor: &Actor, path: &[u8]) -> Option<PathFacts> {
    let sight = look(&stage.storage, &actor.mounts, path, Follow::AllButLast);
    let Ok(Sight::There(place)) = sight else { return None };
    facts_of(stage, actor, place).filter(|facts| facts.kind == FileKind::Link)
}

/// More entries of a mount are not shown by themselves.
const MOST_LISTED: usize = 50;

/// The paths worth showing when no one names any: what the description mounts, and what is known to lie
/// directly in it.
#[must_use]
pub fn default_paths(stage: &Stage, actor: &Actor) -> Vec<Vec<u8>> {
    let mut paths = Vec::new();
    for (_, mount) in actor.mounts.iter().filter(|(_, mount)| mount.origin == MountOrigin::Declared) {
        paths.push(mount.facts.at.to_vec());
        let source = stage.source(mount.variants[0].source);
        // What begins with two dots is the kubelet's own way of laying out API objects.
        // A volume of thousands is not a list to read: there is the sum of a whole tree for that.
        let few = mount.root.filter(|root| source.tree.child_count(*root) <= MOST_LISTED);
        let children = few.into_iter().flat_map(|root| source.tree.children(root));
        for (name, _) in children.filter(|(name, _)| !name.starts_with(b"..")) {
            paths.push([trimmed(&mount.facts.at), b"/", name].concat());
        }
    }
    if paths.is_empty() {
        paths.push(actor.mounts.get(MountTable::ROOT).facts.at.to_vec());
    }
    paths.sort();
    paths.dedup();
    paths
}

/// The rows of [`default_paths`]; that of a mount says how many entries lie deeper.
#[must_use]
pub fn default_rows(stage: &Stage, actor: &Actor) -> Vec<AccessRow> {
    let mut rows: Vec<AccessRow> =
        default_paths(stage, actor).iter().map(|path| access(stage, actor, path)).collect();
    for (_, mount) in actor.mounts.iter().filter(|(_, mount)| mount.origin == MountOrigin::Declared) {
        let tree = &stage.source(mount.variants[0].source).tree;
        let Some(root) = mount.root else { continue };
        let few = tree.child_count(root) <= MOST_LISTED;
        let own = tree.children(root).filter(|(name, _)| !name.starts_with(b".."));
        let hidden = own.map(|(_, child)| below(tree, child) + usize::from(!few)).sum();
        if let Some(row) = rows.iter_mut().find(|row| row.path == *mount.facts.at) {
            row.deeper = hidden;
        }
    }
    rows
}

/// How many entries are below `id`.
fn below(tree: &Tree, id: InodeId) -> usize {
    let mut count = 0;
    let mut pending = vec![id];
    while let Some(id) = pending.pop() {
        count += tree.child_count(id);
        pending
            .extend(tree.children(id).map(|(_, child)| child).filter(|child| tree.child_count(*child) > 0));
    }
    count
}

enum What {
    Act(Verb),
    NewEntry,
}

/// The outcome, and the usual one.
fn outcome(stage: &Stage, actor: &Actor, path: &[u8], what: &What) -> (Outcome, Option<Outcome>) {
    if let Some(refusal) = actor.refusal() {
        return (Outcome::NeverRuns(refusal.clone()), None);
    }
    // Nearly always everything is known; only then is the cheap way's verdict the whole answer.
    let mut unwatched = Unwatched::default();
    let who = actor.choose_credentials(&mut unwatched);
    let name = "";
    let view = stage.view(actor, who, name);
    let verdict: Verdict = match what {
        What::Act(verb) => decide(&view, verb, path, &mut unwatched),
        What::NewEntry => decide_new_entry(&view, NewKind::File, Mode::new(0o666), path, &mut unwatched),
    };
    if !unwatched.met_unknown && actor.needs.is_empty() {
        return (verdict.map_or_else(|errno| Outcome::Denied(Some(errno)), |_| Outcome::Allowed), None);
    }
    let explored = explored(stage, actor, |view, w| match what {
        What::Act(verb) => decide(view, verb, path, w),
        What::NewEntry => decide_new_entry(view, NewKind::File, Mode::new(0o666), path, w),
    });
    let (outcome, ..) = if_it_starts(actor, settle(&explored));
    let usually = usually_if_it_starts(actor, &explored, &outcome);
    // Nobody asks of what is usually a directory how a file is read.
    let of_a_file = matches!(what, What::Act(Verb::Reads | Verb::Writes | Verb::Runs));
    let is_directory = |usual: &Usual| usual.rule == UsualRule::MountIsDirectory;
    let usually = usually.filter(|one| !(of_a_file && one.rests_on.iter().any(is_directory)));
    (outcome, usually.map(|usually| usually.outcome))
}
