//! What is left of an answer where it is not known whether the actor starts at all.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::outcome::Effect;
use mivask_rules::explore::{Decision, Explored};
use mivask_rules::settle::{Dependence, End, Outcome};
use mivask_rules::usually::{Usually, usually};
use mivask_stage::stage::Actor;

/// An answer: its outcome, what it leaves, what it depends on.
pub(super) type Settled = (Outcome, Effect, Vec<Dependence>);

/// The answer of `actor`, which never runs where a need of it is not met. What is denied is denied either way.
pub(super) fn if_it_starts(actor: &Actor, settled: Settled) -> Settled {
    let (outcome, effect, mut all) = settled;
    let is_tried = matches!(outcome, Outcome::Allowed | Outcome::Depends);
    if actor.needs.is_empty() || !is_tried {
        return (outcome, effect, all);
    }
    if all.is_empty() {
        let (fact, conditions, settle) = (String::new(), Vec::new(), Vec::new());
        all.push(Dependence::new(fact, conditions, settle, End::Act(Ok(effect))));
    }
    for need in &actor.needs {
        for one in &mut all {
            let more = if one.fact.is_empty() { String::new() } else { format!("; {}", one.fact) };
            one.fact = format!("{}{more}", need.unknown.fact);
            one.conditions.insert(0, need.when.to_string());
            if !one.settle.contains(&need.unknown.settle) {
                one.settle.insert(0, need.unknown.settle.clone());
            }
        }
    }
    let lacking = actor.needs.iter().map(|need| {
        let settle: Vec<Arc<str>> = vec![need.unknown.settle.clone()];
        Dependence::new(
            need.unknown.fact.to_string(),
            vec![need.otherwise.to_string()],
            settle,
            End::NeverRuns,
        )
    });
    all.extend(lacking);
    (Outcome::Depends, Effect::default(), all)
}

/// How an act that depends on missing facts usually ends: containers that are asked about usually start.
pub(super) fn usually_if_it_starts(actor: &Actor, explored: &Explored, outcome: &Outcome) -> Option<Usually> {
    if *outcome != Outcome::Depends {
        return None;
    }
    let mut found = match (&explored.decision, explored.cut_short) {
        (Decision::Settled(Ok(effect)), false) => Usually {
            outcome: Outcome::Allowed,
            effect: effect.clone(),
            rests_on: BTreeSet::new(),
            conditions: BTreeSet::new(),
        },
        _ => usually(explored)?,
    };
    for need in &actor.needs {
        found.rests_on.insert(need.unknown.usual.as_deref()?.clone());
        found.conditions.insert(need.when.to_string());
    }
    Some(found)
}
