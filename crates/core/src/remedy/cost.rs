//! How much a remedy costs: what else it opens, how many inodes it touches, and what kind of change it is.

use std::collections::BTreeSet;

use mivask_model::acl::AclText;
use mivask_model::act::{Act, Verb};
use mivask_model::caps::Capability;
use mivask_model::credentials::Credentials;
use mivask_model::held::Held;
use mivask_model::ids::{InsideGid, InsideUid};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{Certainty, Tree};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::walk::Follow;
use mivask_stage::scene::Scene;
use mivask_stage::stage::Stage;

use super::{Base, InPlace, Remedy, RemedyStep, Side, Tried};
use crate::change::{Change, Process};
use crate::question::contrast::Baseline;
use crate::question::facts_at;
use crate::question::{Column, Contrast, OutcomeChange};

/// What an ACL entry costs: few look for one.
const ENTRY: f64 = 4.5;

/// The remedy with all that is known about it; `None` where it cannot be made after all.
pub(super) fn measured(
    scene: &Scene,
    (base, baselines): (&Base<'_>, &[Baseline<'_>]),
    acts: &[Act],
    tried: Tried,
) -> Option<Remedy> {
    let now = tried.stage(base).ok()?;
    let base = &base.stage;
    let contrasts = contrasts(baselines, &now);
    let partial = contrasts.iter().any(|one| one.partial);
    let mut opened: Vec<OutcomeChange> = contrasts.iter().flat_map(|one| one.opened.clone()).collect();
    for row in &mut opened {
        let actor = row.actor.clone();
        let column = row.column;
        row.paths.retain(|path| {
            !acts.iter().any(|act| is_goal(act, &actor, column, path)) && !tried.makes_anew(path)
        });
    }
    opened.retain(|row| !row.paths.is_empty());
    worst_first(base, &mut opened);
    let closed: Vec<OutcomeChange> = contrasts.into_iter().flat_map(|one| one.closed).collect();
    let opens: usize = opened.iter().map(|row| row.paths.len()).sum();
    let closes: usize = closed.iter().map(|row| row.paths.len()).sum();
    let inodes = inodes(base, &now, &tried);
    let undone = tried.steps.iter().find_map(|step| undone(scene, base, &step.change));
    let kinds: f64 = tried.steps.iter().map(|step| kind(base, &step.change, step.side)).sum();
    let cost = kinds - entries(&tried.steps)
        + 2.5 * ln(opens)
        + 2.0 * ln(closes)
        + 0.5 * ln(inodes)
        + if undone.is_some() { 8.0 } else { 0.0 };
    let mut steps = tried.steps;
    for step in &mut steps {
        step.there = InPlace::of(base, &now, &step.change);
    }
    let (answer, mut notes) = (tried.answer, tried.notes);
    let mut actors: Vec<&str> = acts.iter().map(|act| act.actor.as_str()).collect();
    actors.sort_unstable();
    actors.dedup();
    notes.extend(actors.into_iter().flat_map(|actor| gained(base, &now, actor)));
    Some(Remedy { steps, answer, opened, closed, inodes, undone, notes, partial, cost })
}

/// What the process is besides, where it becomes somebody else: capabilities that come with root, another group.
fn gained(base: &Stage, now: &Stage, actor: &str) -> Vec<String> {
    let who = |stage: &Stage| stage.actor(actor).ok().and_then(|actor| actor.credentials.first().cloned());
    let (Some(was), Some(is)) = (who(base), who(now)) else { return Vec::new() };
    let names = is.effective.minus(was.effective);
    let names: Vec<&str> = names.iter().map(Capability::name).collect();
    let mut notes = Vec::new();
    if !names.is_empty() {
        let shown = names[..names.len().min(3)].join(", ");
        let more = names.len().saturating_sub(3);
        let more = if more == 0 { String::new() } else { format!(" and {more} more") };
        notes.push(format!("gains the capabilities {shown}{more}"));
    }
    let group = |who: &Credentials| who.inside_gid().and_then(Held::id).map(InsideGid::raw);
    if let (Some(old), Some(new)) = (group(&was), group(&is))
        && old != new
    {
        notes.push(format!("its group is {new} then, not {old}"));
    }
    notes
}

/// Entries for one user on the directories of one way are one decision, not many.
fn entries(steps: &[RemedyStep]) -> f64 {
    let acl = |step: &&RemedyStep| matches!(&step.change, Change::Files(act) if matches!(act.verb, Verb::SetsAcl(_)));
    let further = steps.iter().filter(acl).skip(1);
    further.map(|_| ENTRY - 0.5).sum()
}

#[expect(clippy::cast_precision_loss, reason = "a rank, not a count")]
fn ln(count: usize) -> f64 {
    (count as f64).ln_1p()
}

/// What nobody but its owner could read comes first: a key that opens is not to be one of "3 more".
fn worst_first(base: &Stage, opened: &mut [OutcomeChange]) {
    for row in opened.iter_mut() {
        let Ok(actor) = base.actor(&row.actor) else { continue };
        let is_public = |path: &Vec<u8>| {
            facts_at(base, actor, path).is_none_or(|facts| {
                facts.kind != FileKind::File || facts.mode.is_none_or(|mode| mode.has_any(Mode::new(0o077)))
            })
        };
        row.paths.sort_by_cached_key(is_public);
    }
}

fn contrasts(baselines: &[Baseline<'_>], now: &Stage) -> Vec<Contrast> {
    let actors = baselines.iter().zip(now.actors.iter());
    let all = actors.map(|(was, is)| was.contrast((now, is), &[]));
    all.filter(|one| !one.is_empty() || one.partial).collect()
}

/// Whether it is what was asked for, or cannot be had without: the way there, and with a new or a lost entry what
/// that directory then lets its actor do with other names.
fn is_goal(act: &Act, actor: &str, column: Column, path: &[u8]) -> bool {
    let name = act.actor.rsplit('/').next().unwrap_or(&act.actor);
    let who = actor == act.actor || actor.rsplit('/').next() == Some(name);
    let directory = act
        .path
        .strip_prefix(path)
        .is_some_and(|rest| rest.iter().filter(|byte| **byte == b'/').count() == 1);
    let above = mivask_model::host_mounts::is_within(&act.path, path);
    let entries = act.verb.changes_entries();
    let wanted = column_of(&act.verb).is_none_or(|wanted| wanted == column);
    who && (path == act.path && wanted
        || above && column == Column::Enter
        || directory && entries && column == Column::Create)
}

/// The column of the matrix that answers an act; `None` for an act without one.
const fn column_of(verb: &Verb) -> Option<Column> {
    match verb {
        Verb::Reads => Some(Column::Read),
        Verb::Writes | Verb::Appends | Verb::Truncates | Verb::Shortens => Some(Column::Write),
        Verb::Deletes | Verb::RemovesDirectory => Some(Column::Delete),
        Verb::Lists => Some(Column::List),
        Verb::Enters => Some(Column::Enter),
        Verb::Runs => Some(Column::Run),
        Verb::Inspects
        | Verb::InspectsLink
        | Verb::Updates
        | Verb::Overwrites
        | Verb::Extends
        | Verb::Creates(_)
        | Verb::MakesDirectory(_)
        | Verb::MakesFifo(_)
        | Verb::MakesNode(..)
        | Verb::Points(_)
        | Verb::Links(_)
        | Verb::LinksTarget(_)
        | Verb::Renames(_)
        | Verb::RenamesNew(_)
        | Verb::Exchanges(_)
        | Verb::SetsDefaultAcl(_)
        | Verb::RemovesAcl
        | Verb::RemovesDefaultAcl
        | Verb::ReadsTag(_)
        | Verb::MayRead
        | Verb::MayWrite
        | Verb::MayRun
        | Verb::SetsMode(_)
        | Verb::SetsOwner(_)
        | Verb::SetsGroup(_)
        | Verb::SetsLinkOwner(_)
        | Verb::SetsLinkGroup(_)
        | Verb::SetsAcl(_)
        | Verb::Stamps
        | Verb::Backdates
        | Verb::Tags(_) => None,
    }
}

/// How many inodes have another owner, group, mode or ACL.
fn inodes(base: &Stage, now: &Stage, tried: &Tried) -> usize {
    let files = tried.steps.iter().filter_map(|step| match &step.change {
        Change::Files(act) | Change::Image(act) => Some(act.path.as_slice()),
        Change::Process(..) | Change::FilesystemGroup(_) | Change::Joins(_) | Change::Accounts(..) => None,
    });
    let mut paths: Vec<&[u8]> = files.collect();
    paths.sort_unstable();
    paths.dedup();
    let touches = |stage: &Stage| -> usize {
        let mut seen = BTreeSet::new();
        let mounts = stage.actors.iter().flat_map(|actor| actor.mounts.iter().map(|(_, mount)| mount));
        mounts
            .filter_map(|mount| {
                let variant = mount.variants.first()?;
                // A volume that is new with each pod has nothing to keep, and what the kubelet writes is its own.
                let kept = !mount.facts.kind.is_made_anew() && !mount.is_written_by_kubelet();
                let new = seen.insert(variant.source) && kept;
                new.then_some(variant.preparation.touches)
            })
            .sum()
    };
    paths.len() + touches(now).saturating_sub(touches(base))
}

/// What each kind of change costs before anything is measured: how much it disturbs whoever works on it next.
fn kind(base: &Stage, change: &Change, side: Side) -> f64 {
    match change {
        // What takes the file's name later is not seen there.
        Change::Process(name, Process::Only(part)) if is_file(base, name, part) => 10.0,
        // Every file that it makes from then on is everybody's to read.
        Change::Process(name, what @ Process::Umask(umask)) if opens_to_others(base, name, *umask) => {
            process(what) + 6.0
        }
        Change::Process(_, what) => process(what),
        // A new image has to be built, and what runs has to be made anew.
        Change::Files(act) | Change::Image(act) => {
            let place = if side == Side::Image { 1.0 } else { 0.0 };
            file(base, act)
                + place
                + if is_not_there_yet(base, act) && side == Side::Disk { 2.0 } else { 0.0 }
        }
        Change::FilesystemGroup(_) | Change::Joins(_) => 2.0,
        Change::Accounts(..) => 3.0,
    }
}

/// Whether the ACL that is there names as many users and groups as `text`.
fn names_as_many(base: &Stage, act: &Act, text: &AclText) -> bool {
    let Ok(actor) = base.actor(&act.actor) else { return false };
    let Ok(Sight::There(place)) = look(&base.storage, &actor.mounts, &act.path, Follow::Links) else {
        return false;
    };
    let acl = place.inode.and_then(|id| base.source(place.source).tree.acl(id));
    acl.is_some_and(|acl| acl.users.len() == text.users.len() && acl.groups.len() == text.groups.len())
}

/// Whether a umask takes less from others than the process's own.
fn opens_to_others(base: &Stage, name: &str, umask: Mode) -> bool {
    let was = base.actor(name).ok().and_then(|actor| actor.credentials.first()).map(|who| who.umask);
    was.is_some_and(|was| was.without(umask).has_any(Mode::new(0o007)))
}

fn is_file(base: &Stage, name: &str, path: &[u8]) -> bool {
    let facts = base.actor(name).ok().and_then(|actor| facts_at(base, actor, path));
    facts.is_some_and(|facts| facts.kind == FileKind::File)
}

impl Tried {
    /// Whether the directory `path` is another one afterwards: an empty one, which the runtime makes above a mount point.
    fn makes_anew(&self, path: &[u8]) -> bool {
        self.steps.iter().any(|step| {
            let Change::Process(_, Process::Only(part)) = &step.change else { return false };
            part.as_slice() != path && mivask_model::host_mounts::is_within(part, path)
        })
    }
}

/// Whether the volume is made when the container is, so that no one can change it before.
fn is_not_there_yet(base: &Stage, act: &Act) -> bool {
    let Ok(actor) = base.actor(&act.actor) else { return false };
    let Ok(Sight::There(place)) = look(&base.storage, &actor.mounts, &act.path, Follow::AllButLast) else {
        return false;
    };
    let assumed = |certainty: &Certainty| matches!(certainty, Certainty::Assumed(_));
    let tree = &base.source(place.source).tree;
    tree.doubt(Tree::ROOT)
        .is_some_and(|doubt| doubt.assumed_attribute().is_some() || assumed(&doubt.contents))
}

fn process(what: &Process) -> f64 {
    match what {
        // The group of root opens what no one thought of.
        Process::Joins(0) => 9.0,
        Process::Joins(_) | Process::Umask(_) | Process::Scratch(_) => 1.0,
        Process::FilesystemGroup(_) => 1.5,
        // The program finds nothing else of the volume any more.
        Process::Only(_) => 7.5,
        Process::Mounts(at, _) if at.as_slice() == b"/" => 6.0,
        Process::Mounts(..) => 1.5,
        Process::Becomes(0, _) => 14.0,
        Process::Becomes(_, Some(_)) => 6.0,
        Process::Becomes(_, None) => 5.0,
        Process::Adds(names) if names.iter().any(|name| name == "DAC_OVERRIDE") => 16.0,
        Process::Adds(_) => 12.0,
        Process::Drops(_) | Process::StartsAgain | Process::IsMadeAgain => 0.0,
    }
}

fn file(base: &Stage, act: &Act) -> f64 {
    let facts = base.actor(&act.actor).ok().and_then(|actor| facts_at(base, actor, &act.path));
    let directory = facts.is_some_and(|facts| facts.kind == FileKind::Directory);
    let owner = facts.and_then(|facts| facts.uid).map(InsideUid::raw);
    let group = facts.and_then(|facts| facts.gid).map(InsideGid::raw);
    // Whoever has it now loses it; root does not mind.
    let taken = |id: Option<u32>| if id.is_some_and(|id| id != 0) { 4.0 } else { 0.0 };
    match &act.verb {
        Verb::SetsMode(change) => {
            // A directory that is listed and not entered has lost its x: that is a mistake, not a rule.
            let mistaken = directory && change.ends_with_execute();
            // Images run with group 0 where no group is named, so opening it to group 0 opens it to most.
            let of_root = group == Some(0) && change.begins_with_the_group();
            (if mistaken { 0.3 } else { 1.5 }) + if of_root { 4.0 } else { 0.0 }
        }
        Verb::MakesDirectory(_) => 1.0,
        Verb::SetsGroup(_) => 1.5 + taken(group),
        // Who is to get it is named already, and the mask alone is in the way.
        Verb::SetsAcl(text) if names_as_many(base, act, text) => 1.5,
        Verb::SetsAcl(_) | Verb::SetsDefaultAcl(_) => ENTRY,
        Verb::Inspects
        | Verb::InspectsLink
        | Verb::Reads
        | Verb::Writes
        | Verb::Appends
        | Verb::Truncates
        | Verb::Updates
        | Verb::Overwrites
        | Verb::Extends
        | Verb::Shortens
        | Verb::Runs
        | Verb::Lists
        | Verb::Enters
        | Verb::Creates(_)
        | Verb::MakesFifo(_)
        | Verb::MakesNode(..)
        | Verb::Points(_)
        | Verb::Links(_)
        | Verb::LinksTarget(_)
        | Verb::Renames(_)
        | Verb::RenamesNew(_)
        | Verb::Exchanges(_)
        | Verb::RemovesAcl
        | Verb::RemovesDefaultAcl
        | Verb::ReadsTag(_)
        | Verb::MayRead
        | Verb::MayWrite
        | Verb::MayRun
        | Verb::Deletes
        | Verb::RemovesDirectory
        | Verb::SetsOwner(_)
        | Verb::SetsLinkOwner(_)
        | Verb::SetsLinkGroup(_)
        | Verb::Stamps
        | Verb::Backdates
        | Verb::Tags(_) => taken(owner) + if directory { 4.5 } else { 4.0 },
    }
}

/// What takes a change of files back when the pod is made anew.
fn undone(scene: &Scene, base: &Stage, change: &Change) -> Option<String> {
    let Change::Files(act) = change else { return None };
    let actor = base.actor(&act.actor).ok()?;
    let parent =
        act.path.iter().rposition(|byte| *byte == b'/').map_or(&b"/"[..], |at| &act.path[..at.max(1)]);
    let place = [act.path.as_slice(), parent].into_iter().find_map(|path| {
        match look(&base.storage, &actor.mounts, path, Follow::AllButLast) {
            Ok(Sight::There(place)) => Some(place),
            Ok(Sight::Missing | Sight::Unlisted) | Err(_) => None,
        }
    })?;
    let mount = actor.mounts.get(place.mount);
    if mount.facts.kind.is_made_anew() {
        return Some(format!("the {} is made anew with each pod or container", mount.facts.kind));
    }
    if mount.is_written_by_kubelet() {
        return Some(format!("the kubelet writes the {} volume itself", mount.facts.kind));
    }
    if base.source(place.source).facts.anonymous {
        return Some("an anonymous volume is made anew with each container".to_owned());
    }
    let workload = scene.workloads.iter().find(|workload| *workload.name == *actor.workload)?;
    let group = workload.security.fs_group.as_ref()?;
    let stepped = mount.variants.iter().any(|variant| variant.preparation.touches > 0);
    let regroups = matches!(
        act.verb,
        Verb::SetsGroup(_) | Verb::SetsOwner(mivask_model::act::Owner { gid: Some(_), .. })
    );
    (stepped && regroups).then(|| format!("the filesystem-group step gives it to {} again", group.value))
}
