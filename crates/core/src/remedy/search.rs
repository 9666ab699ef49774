//! The search: what may get past the check that stops the act, made on the model and asked again, a few changes deep.

use std::collections::BTreeSet;

use super::attempt::{attempt, becomes_twice, joined};
use super::situation::Base;
use super::wish::Wish;
use super::{Side, Tried, candidate, chain, hint};

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
    let deep = if wish.one_of_many { None } else { chain::of_entries(&start, base, wish) };
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
                if wish.one_of_many && matches!(candidate.side, Side::Disk | Side::Image) {
                    continue;
                }
                let steps = joined(&from.steps, &candidate);
                let mut key: Vec<String> = steps.iter().map(|step| step.change.to_string()).collect();
                key.sort();
                if steps.len() > DEEPEST || becomes_twice(&steps) || !seen.insert(key) {
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
