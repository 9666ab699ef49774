//! The search: what may get past the check that stops the act, made on the model and asked again, a few changes deep.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::act::Verb;
use mivask_rules::settle::Outcome;
use mivask_stage::scene::Scene;
use mivask_stage::stage::Stage;

use super::wish::Wish;
use super::{Base, RemedyStep, Tried, candidate, chain, hint};
use crate::change::{Change, Changes, Process};
use crate::question::Answer;

/// Changes that are made together at most.
const DEEPEST: usize = 4;
/// Combinations that are tried at most.
pub const MOST_TRIED: usize = 160;

/// Every combination that leads to the goal, the short ones first; `hint` is filled where nothing helps against a check
/// behind the first. With it, whether some were left out for their number.
pub(super) fn search(
    start: Tried,
    base: &Base<'_>,
    wish: &Wish<'_>,
    hint: &mut Option<String>,
) -> (Vec<Tried>, bool) {
    let mut found: Vec<Tried> = Vec::new();
    let deep = chain::of_entries(&start, base, wish);
    let mut seen: BTreeSet<Vec<String>> = BTreeSet::new();
    let mut frontier = vec![start];
    let (mut tried, mut bounded) = (0, false);
    while !frontier.is_empty() && tried < MOST_TRIED {
        let mut next = Vec::new();
        for from in &frontier {
            let Ok(now) = from.stage(base) else { continue };
            let after = wish.made.and_then(|made| made.after(&now, &wish.act).ok()).map(|(after, _)| after);
            let sees = after.as_ref().unwrap_or(&now);
            for candidate in candidate::candidates(&from.scene, sees, wish, &from.answer) {
                let steps = joined(&from.steps, &candidate);
                let mut key: Vec<String> = steps.iter().map(|step| step.change.to_string()).collect();
                key.sort();
                if steps.len() > DEEPEST || !seen.insert(key) {
                    continue;
                }
                if tried >= MOST_TRIED {
                    bounded = true;
                    continue;
                }
                tried += 1;
                let Some(one) = attempt(base, (from, &now), &candidate, steps, wish) else { continue };
                // What is met behind the first check may be what nothing gets past.
                if hint.is_none() {
                    *hint = hint::hint(&one.answer).map(|next| format!("once that is mended, {next}"));
                }
                if one.reached {
                    found.push(one);
                } else if wish.moves_on(from, &one) {
                    next.push(one);
                }
            }
        }
        frontier = next;
    }
    found.extend(deep);
    (found, bounded || !frontier.is_empty())
}

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
    matches!((&later.verb, &earlier.verb), (Verb::SetsAcl(_), Verb::SetsAcl(_))) && later.path == earlier.path
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
    if let (false, Some(note)) = (reached, under_condition(&from.answer, candidate, &answer)) {
        notes.push(note);
        reached = true;
    }
    Some(Tried { answer, reached, notes, ..tried })
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

/// Whether something else stops the act now, so that it is worth going on.
pub(super) fn moves_on(from: &Tried, to: &Tried) -> bool {
    let stopped = |answer: &Answer| {
        answer
            .steps
            .last()
            .map(|step| (step.path.clone(), step.check, step.bits.map(|bits| bits.needed), step.result))
    };
    matches!(to.answer.outcome, Outcome::Denied(_) | Outcome::Allowed)
        && (stopped(&from.answer) != stopped(&to.answer) || to.answer.outcome == Outcome::Allowed)
}

/// Without those that do all that another one does, and more.
pub(super) fn minimal(found: Vec<Tried>) -> Vec<Tried> {
    let keys: Vec<BTreeSet<String>> =
        found.iter().map(|one| one.steps.iter().map(|step| step.change.to_string()).collect()).collect();
    let mut keep = found.into_iter().enumerate().filter(|(at, _)| {
        !keys.iter().enumerate().any(|(other, smaller)| {
            other != *at && smaller.is_subset(&keys[*at]) && (smaller.len() < keys[*at].len() || other < *at)
        })
    });
    keep.by_ref().map(|(_, one)| one).collect()
}
