//! One combination of changes, made on the model and asked about.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::act::Verb;
use mivask_model::fact::Fact;
use mivask_rules::settle::Outcome;
use mivask_stage::scene::Scene;
use mivask_stage::stage::Stage;

use super::situation::Base;
use super::wish::Wish;
use super::{RemedyStep, Tried, candidate};
use crate::change::{Change, Changes, Process};
use crate::question::Answer;

/// The earlier changes and then those of `candidate`.
pub(super) fn joined(earlier: &[RemedyStep], candidate: &candidate::Candidate) -> Vec<RemedyStep> {
    // A later ACL says what an earlier one of the same file said, and more.
    let replaced = |step: &RemedyStep| candidate.changes.iter().any(|later| replaces(later, &step.change));
    let mut steps: Vec<RemedyStep> = earlier.iter().filter(|step| !replaced(step)).cloned().collect();
    let added = candidate.changes.iter().cloned();
    steps.extend(added.map(|change| RemedyStep { change, side: candidate.side, there: None }));
    steps
}

fn replaces(later: &Change, earlier: &Change) -> bool {
    let (Change::Files(later) | Change::Image(later), Change::Files(earlier) | Change::Image(earlier)) =
        (later, earlier)
    else {
        return false;
    };
    let same = matches!(
        (&later.verb, &earlier.verb),
        (Verb::SetsAcl(_), Verb::SetsAcl(_)) | (Verb::SetsOwner(_), Verb::SetsOwner(_))
    );
    same && later.path == earlier.path
}

/// Whether a process that became somebody already would become somebody else.
pub(super) fn becomes_twice(steps: &[RemedyStep]) -> bool {
    let becomes = steps.iter().filter_map(|step| match &step.change {
        Change::Process(name, Process::Becomes(..)) => Some(name),
        Change::Process(..)
        | Change::Files(_)
        | Change::Image(_)
        | Change::FilesystemGroup(_)
        | Change::Joins(_)
        | Change::Security(_)
        | Change::Accounts(..) => None,
    });
    let mut seen = BTreeSet::new();
    becomes.into_iter().any(|name| !seen.insert(name))
}

/// Makes the changes of `candidate` after those of `from`, together `steps`; `None` where they cannot be made.
pub(super) fn attempt(
    base: &Base<'_>,
    (from, now): (&Tried, &Stage),
    candidate: &candidate::Candidate,
    steps: Vec<RemedyStep>,
    wish: &Wish<'_>,
) -> Option<Tried> {
    let changes = Changes::new(candidate.changes.clone());
    if candidate.changes.iter().all(|change| matches!(change, Change::Files(_))) {
        let mut now = now.clone();
        changes.apply_to_files(&mut now).ok()?;
        let answer = wish.ask(&now)?;
        let reached = wish.reached(&from.scene, &now, &answer);
        return Some(Tried { steps, scene: from.scene.clone(), answer, reached, notes: from.notes.clone() });
    }
    let mut scene = Scene::clone(&from.scene);
    let made = changes.apply_to_scene(&mut scene).ok()?;
    let notes = [from.notes.as_slice(), &made].concat();
    let tried = Tried { steps, scene: Arc::new(scene), answer: from.answer.clone(), reached: false, notes };
    // Files that were changed before are changed again on the new stage.
    let now = tried.stage(base).ok()?;
    let answer = wish.ask(&now)?;
    let mut reached = wish.reached(&tried.scene, &now, &answer);
    let mut notes = tried.notes.clone();
    if let (false, Some((scene, note))) =
        (reached, where_it_is_applied(base, &tried, (candidate, &answer), wish))
    {
        notes.push(note);
        return Some(Tried { answer, reached: true, notes, scene: Arc::new(scene), ..tried });
    }
    if let (false, Some(note)) = (reached, under_condition(&from.answer, candidate, &answer)) {
        notes.push(note);
        reached = true;
    }
    Some(Tried { answer, reached, notes, ..tried })
}

/// The scene in which the filesystem group reaches every claim, and that it helps there, where nobody said whether a driver lets
/// the kubelet apply it.
fn where_it_is_applied(
    base: &Base<'_>,
    tried: &Tried,
    (candidate, after): (&candidate::Candidate, &Answer),
    wish: &Wish<'_>,
) -> Option<(Scene, String)> {
    let step = |change: &Change| {
        matches!(change, Change::FilesystemGroup(_) | Change::Process(_, Process::FilesystemGroup(_)))
    };
    if after.outcome != Outcome::Depends || !candidate.changes.iter().all(step) {
        return None;
    }
    let mut scene = Scene::clone(&tried.scene);
    for facts in scene.volumes.values_mut().filter(|facts| facts.group_ownership.is_none()) {
        facts.group_ownership = Some(Fact::new(true, facts.from.clone()));
    }
    let there = Tried { scene: Arc::new(scene), ..tried.again() };
    let now = there.stage(base).ok()?;
    let answer = wish.ask(&now)?;
    if !wish.reached(&there.scene, &now, &answer) {
        return None;
    }
    let fact = after.depends_on.first()?;
    let note = format!(
        "whether it helps depends on {}: a CSI driver says so in its fsGroupPolicy, and NFS and host paths never take it",
        fact.fact
    );
    Some((Scene::clone(&there.scene), note))
}

/// The condition under which scratch space below a read-only root helps, where the image is not known: runc 1.1 gives a tmpfs
/// the mode of the directory that it covers. Everything else is refused there whatever the image has.
fn under_condition(before: &Answer, candidate: &candidate::Candidate, after: &Answer) -> Option<String> {
    let scratch =
        candidate.changes.iter().all(|change| matches!(change, Change::Process(_, Process::Scratch(_))));
    if !scratch || before.outcome != Outcome::Denied(None) || after.outcome != Outcome::Depends {
        return None;
    }
    let fact = after.depends_on.first()?;
    Some(format!(
        "whether it helps depends on {}: runc gives a tmpfs the mode of the directory it covers",
        fact.fact
    ))
}
