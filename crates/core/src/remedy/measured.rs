//! What follows from a remedy: what else it opens and takes away, how many inodes it touches, and whether it lasts.

use std::collections::BTreeSet;

use mivask_model::act::{Act, Verb};
use mivask_model::caps::Capability;
use mivask_model::credentials::Credentials;
use mivask_model::held::Held;
use mivask_model::ids::InsideGid;
use mivask_model::mode::{FileKind, Mode};
use mivask_model::path::parent;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::settle::Outcome;
use mivask_rules::walk::Follow;
use mivask_stage::scene::Scene;
use mivask_stage::stage::Stage;

use super::rank::{self, Mark, Rank};
use super::situation::Base;
use super::{InPlace, Remedy, Side, Tried, marks};
use crate::change::{Change, GroupStep, Process, labelled};
use crate::question::contrast::Baseline;
use crate::question::facts_at;
use crate::question::{Column, Contrast, OutcomeChange};

/// What is asked for, and so is no opening.
pub(super) enum Goals<'a> {
    /// Each of these acts.
    Acts(&'a [Act]),
    /// The act, whose path is a pattern, on each of these paths.
    Tree(&'a Act, &'a BTreeSet<Vec<u8>>),
}

impl Goals<'_> {
    const fn acts(&self) -> &[Act] {
        match self {
            Self::Acts(acts) => acts,
            Self::Tree(act, _) => std::slice::from_ref(act),
        }
    }

    /// Whether that is what was asked for, or cannot be had without.
    fn is(&self, actor: &str, column: Column, path: &[u8]) -> bool {
        match self {
            Self::Acts(acts) => acts.iter().any(|act| is_goal(act, actor, column, path)),
            // Listing is what reading comes to for its directories.
            Self::Tree(act, paths) => {
                let lists = act.verb == Verb::Reads && column == Column::List;
                let wanted = column_of(&act.verb).is_none_or(|wanted| wanted == column) || lists;
                let below = || paths.range(path.to_vec()..).next();
                let above = || below().is_some_and(|first| mivask_model::host_mounts::is_within(first, path));
                is_same(act, actor) && (paths.contains(path) && wanted || column == Column::Enter && above())
            }
        }
    }

    /// How many inodes a change of `path` changes.
    fn matched(&self, path: &[u8]) -> usize {
        match self {
            Self::Tree(act, paths) if act.path == path => paths.len(),
            Self::Tree(..) | Self::Acts(_) => 1,
        }
    }
}

/// Whether an act is of that actor.
fn is_same(act: &Act, actor: &str) -> bool {
    let name = act.actor.rsplit('/').next().unwrap_or(&act.actor);
    actor == act.actor || actor.rsplit('/').next() == Some(name)
}

/// The remedy with all that is known about it; `None` where it cannot be made after all.
pub(super) fn measured(
    (base, baselines): (&Base<'_>, &[Baseline<'_>]),
    goals: &Goals<'_>,
    tried: Tried,
) -> Option<Remedy> {
    let now = tried.stage(base).ok()?;
    Some(measured_on((base, baselines), goals, tried, &now))
}

/// The same, with the stage `now` after it: of a whole tree, making it takes long.
pub(super) fn measured_on(
    (base, baselines): (&Base<'_>, &[Baseline<'_>]),
    goals: &Goals<'_>,
    tried: Tried,
    now: &Stage,
) -> Remedy {
    let acts = goals.acts();
    let broken = base.broken(now);
    let scene = base.situation.scene;
    let base = &base.stage;
    let contrasts = contrasts(baselines, now);
    let partial = contrasts.iter().any(|one| one.partial);
    let mut opened: Vec<OutcomeChange> = contrasts.iter().flat_map(|one| one.opened.clone()).collect();
    for row in &mut opened {
        let actor = row.actor.clone();
        let column = row.column;
        row.paths.retain(|path| !goals.is(&actor, column, path) && !tried.makes_anew(path));
    }
    opened.retain(|row| !row.paths.is_empty());
    let secrets = worst_first(base, &mut opened);
    let closed: Vec<OutcomeChange> = contrasts.into_iter().flat_map(|one| one.closed).collect();
    let count = |rows: &[OutcomeChange]| -> usize { rows.iter().map(|row| row.paths.len()).sum() };
    let inodes = inodes(base, now, &tried, goals) + relabelled(scene, &tried);
    let undone = tried.steps.iter().find_map(|step| undone(scene, base, &step.change));
    let mut marks = marks::of_steps(base, &tried.steps, acts);
    marks.extend((tried.answer.outcome == Outcome::Depends).then_some(Mark::Conditional));
    marks.extend(rank::of_opened(count(&opened), secrets));
    marks.extend(steps_on_every_volume(base, acts, &tried, &opened).then_some(Mark::OtherVolumes));
    marks.extend(rank::of_closed(count(&closed)));
    marks.extend(rank::of_inodes(inodes));
    marks.extend(undone.is_some().then_some(Mark::Undone));
    marks.extend((!broken.is_empty()).then_some(Mark::Breaks));
    let on_disk = tried.steps.iter().any(|step| matches!(step.side, Side::Disk | Side::Image));
    let rank = Rank::new(marks, tried.steps.len(), on_disk);
    let mut steps = tried.steps;
    for step in &mut steps {
        step.there = InPlace::of(base, now, &step.change);
    }
    let (answer, mut notes) = (tried.answer, tried.notes);
    let mut actors: Vec<&str> = acts.iter().map(|act| act.actor.as_str()).collect();
    actors.sort_unstable();
    actors.dedup();
    notes.extend(steps.iter().filter_map(|step| number(base, acts, &step.change)));
    notes.extend(actors.into_iter().flat_map(|actor| gained(base, now, actor)));
    let breaks = broken.into_iter().map(|one| one.text.clone()).collect();
    Remedy { steps, answer, opened, closed, breaks, inodes, undone, notes, partial, rank }
}

/// Whether a filesystem group opens volumes that none of the acts is about.
fn steps_on_every_volume(base: &Stage, acts: &[Act], tried: &Tried, opened: &[OutcomeChange]) -> bool {
    let step = |change: &Change| {
        matches!(change, Change::FilesystemGroup(_) | Change::Process(_, Process::FilesystemGroup(_)))
    };
    let source = |actor: &str, path: &[u8]| {
        let actor = base.actor(actor).ok()?;
        match look(&base.storage, &actor.mounts, path, Follow::Links) {
            Ok(Sight::There(place)) => Some(place.source),
            Ok(Sight::Missing | Sight::Unlisted) | Err(_) => None,
        }
    };
    let meant = |act: &Act| source(&act.actor, &act.path).or_else(|| source(&act.actor, parent(&act.path)));
    let meant: Vec<_> = acts.iter().filter_map(meant).collect();
    let other = |row: &OutcomeChange| {
        row.paths.iter().any(|path| source(&row.actor, path).is_some_and(|source| !meant.contains(&source)))
    };
    tried.steps.iter().any(|one| step(&one.change)) && opened.iter().any(other)
}

/// Where the number of a filesystem group comes from.
fn number(base: &Stage, acts: &[Act], change: &Change) -> Option<String> {
    let (Change::FilesystemGroup(GroupStep::Group(gid))
    | Change::Process(_, Process::FilesystemGroup(GroupStep::Group(gid)))) = change
    else {
        return None;
    };
    let act = acts.first()?;
    let actor = base.actor(&act.actor).ok()?;
    let who = actor.credentials.first()?;
    let own = who.inside_gid().and_then(Held::id).map(InsideGid::raw);
    let there = facts_at(base, actor, &act.path).or_else(|| facts_at(base, actor, parent(&act.path)));
    let there = there.and_then(|facts| facts.gid).map(InsideGid::raw);
    Some(match *gid {
        gid if own == Some(gid) => format!("{gid} is the group that {} has", act.actor),
        gid if there == Some(gid) => format!("{gid} is the group that the files have"),
        gid if actor.identity.possible.iter().any(|(_, one)| is_in(&one.groups, gid)) => {
            format!("{gid} is a group that {} is in", act.actor)
        }
        gid => format!("{gid} is a number that nothing here uses"),
    })
}

fn is_in(groups: &[Held<InsideGid>], gid: u32) -> bool {
    groups.iter().any(|held| held.id().map(InsideGid::raw) == Some(gid))
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

/// What nobody but its owner could read comes first: a key that opens is not to be one of "3 more". How many of these.
fn worst_first(base: &Stage, opened: &mut [OutcomeChange]) -> usize {
    let mut secrets = 0;
    for row in opened.iter_mut() {
        let Ok(actor) = base.actor(&row.actor) else { continue };
        let is_public = |path: &Vec<u8>| {
            facts_at(base, actor, path).is_none_or(|facts| {
                facts.kind != FileKind::File || facts.mode.is_none_or(|mode| mode.has_any(Mode::new(0o077)))
            })
        };
        row.paths.sort_by_cached_key(is_public);
        // Only a look at it gives a secret away.
        if row.column == Column::Read {
            secrets += row.paths.iter().filter(|path| !is_public(path)).count();
        }
    }
    secrets
}

fn contrasts(baselines: &[Baseline<'_>], now: &Stage) -> Vec<Contrast> {
    let actors = baselines.iter().zip(now.actors.iter());
    let all = actors.map(|(was, is)| was.contrast((now, is), &[]));
    all.filter(|one| !one.is_empty() || one.partial).collect()
}

/// Whether it is what was asked for, or cannot be had without: the way there, and with a new or a lost entry what
/// that directory then lets its actor do with other names.
fn is_goal(act: &Act, actor: &str, column: Column, path: &[u8]) -> bool {
    let who = is_same(act, actor);
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

/// How many inodes the host labels anew.
fn relabelled(scene: &Scene, tried: &Tried) -> usize {
    let all = tried.steps.iter().map(|step| match &step.change {
        Change::Security(what) => labelled(scene, what),
        Change::Files(_)
        | Change::Image(_)
        | Change::Process(..)
        | Change::FilesystemGroup(_)
        | Change::Joins(_)
        | Change::Accounts(..) => 0,
    });
    all.sum()
}

/// How many inodes have another owner, group, mode or ACL.
fn inodes(base: &Stage, now: &Stage, tried: &Tried, goals: &Goals<'_>) -> usize {
    let files = tried.steps.iter().filter_map(|step| match &step.change {
        Change::Files(act) | Change::Image(act) => Some(act.path.as_slice()),
        Change::Process(..)
        | Change::FilesystemGroup(_)
        | Change::Joins(_)
        | Change::Security(_)
        | Change::Accounts(..) => None,
    });
    let mut paths: Vec<&[u8]> = files.collect();
    paths.sort_unstable();
    paths.dedup();
    let changed: usize = paths.iter().map(|path| goals.matched(path)).sum();
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
    changed + touches(now).saturating_sub(touches(base))
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
