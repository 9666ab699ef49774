//! What speaks against an expectation: one act, one path.

use mivask_model::act::{Expectation, quoted};
use mivask_model::fact::Provenance;
use mivask_model::usual::Usual;
use mivask_rules::settle::Outcome;
use mivask_rules::trace::Check;
use mivask_stage::identity::IdentityField;
use mivask_stage::stage::Actor;

use super::{Against, ended};
use crate::question::Answer;

/// What an answer says against what is expected of its act; `None` where it is as expected.
pub(super) fn against(actor: &Actor, answer: &Answer) -> Option<Against> {
    if answer.holds() == Some(true) {
        return None;
    }
    // Someone who never runs does nothing that is not to be done.
    let denied = matches!(answer.act.expectation, Some(Expectation::Denied(_)));
    if denied && matches!(answer.outcome, Outcome::NeverRuns(_)) {
        return None;
    }
    let (fact, from) = deciding(actor, answer);
    let open = answer.outcome == Outcome::Depends || is_partly_unknown(answer);
    let mut settle: Vec<String> = Vec::new();
    for one in answer.depends_on.iter().flat_map(|one| &one.settle) {
        if open && !settle.iter().any(|known| **known == **one) {
            settle.push(one.to_string());
        }
    }
    Some(Against {
        actor: answer.actor.clone(),
        path: answer.act.path.clone(),
        asked: answer.act.to_string(),
        found: ended(answer),
        fact,
        from,
        open,
        usual: usual(answer),
        settle,
    })
}

/// The usual facts with which it is as expected.
fn usual(answer: &Answer) -> Vec<Usual> {
    let Some(usually) = &answer.usually else { return Vec::new() };
    if answer.would_hold(&usually.outcome, &usually.effect) == Some(true) {
        usually.rests_on.iter().cloned().collect()
    } else {
        Vec::new()
    }
}

/// Whether it is allowed, and what it leaves depends on a missing fact and may be as expected.
fn is_partly_unknown(answer: &Answer) -> bool {
    let denied_somehow = answer.outcome == Outcome::Denied(None)
        && matches!(answer.act.expectation, Some(Expectation::Denied(Some(_))));
    let Some(Expectation::Leaves { uid, gid, mode }) = answer.act.expectation else { return denied_somehow };
    let left = answer.effect.imprint.as_ref();
    let may_be =
        |left: Option<u32>, wanted: Option<u32>| wanted.is_none() || left.is_none() || left == wanted;
    answer.outcome == Outcome::Allowed
        && left.is_some_and(|left| {
            may_be(left.uid.map(|id| id.raw()), uid)
                && may_be(left.gid.map(|id| id.raw()), gid)
                && (mode.is_none() || left.mode.is_none() || left.mode == mode)
        })
}

/// The fact that decided, with its place.
fn deciding(actor: &Actor, answer: &Answer) -> (String, Provenance) {
    if let Outcome::NeverRuns(refusal) = &answer.outcome {
        return (format!("{}: {}", refusal.class, refusal.reason), refusal.from.clone());
    }
    if let Some(first) = answer.depends_on.first()
        && answer.outcome == Outcome::Depends
    {
        return (
            format!("a fact is missing: {}", first.fact),
            Provenance::Unknown(first.fact.as_str().into()),
        );
    }
    if let (Some(Expectation::Leaves { .. }), Outcome::Allowed) = (answer.act.expectation, &answer.outcome)
        && let Some(found) = imprinted(actor, answer)
    {
        return found;
    }
    let last = || answer.steps.last().filter(|_| !matches!(answer.outcome, Outcome::Denied(_)));
    match answer.deciding().or_else(last) {
        Some(step) => {
            let from = if step.check == Check::Capability { empowered(actor) } else { step.from.clone() };
            (format!("{}: {}", quoted(&step.path), step.fact), from)
        }
        None => ("nothing is in the way".to_owned(), actor.from.clone()),
    }
}

/// The line that gives an actor its capabilities, or makes it the user who has them.
fn empowered(actor: &Actor) -> Provenance {
    let own =
        |field: IdentityField| actor.facts().iter().find(|fact| fact.field == field).map(|fact| &fact.from);
    let given = [own(IdentityField::Effective), own(IdentityField::Uid)].into_iter().flatten();
    let mut lines =
        given.filter(|from| matches!(from, Provenance::Document { .. } | Provenance::Line { .. }));
    lines.next().unwrap_or(&actor.from).clone()
}

/// The fact behind the first part of an imprint that is not as expected.
fn imprinted(actor: &Actor, answer: &Answer) -> Option<(String, Provenance)> {
    let Some(Expectation::Leaves { uid, gid, .. }) = answer.act.expectation else { return None };
    let left = answer.effect.imprint.as_ref()?;
    let own = |field: IdentityField| {
        let fact = actor.facts().iter().find(|fact| fact.field == field)?;
        Some((format!("{} {} of {}", field.word(), fact.value, actor.name), fact.from.clone()))
    };
    let differs = |left: Option<u32>, wanted: Option<u32>| wanted.is_some() && left != wanted;
    if differs(left.uid.map(|id| id.raw()), uid) {
        return own(IdentityField::Uid);
    }
    let left_gid = left.gid.map(|id| id.raw());
    if !differs(left_gid, gid) {
        return own(IdentityField::Umask);
    }
    let own_gid = actor.credentials.first().and_then(|who| who.inside_gid()?.id()).map(|gid| gid.raw());
    if own_gid == left_gid {
        return own(IdentityField::Gid);
    }
    let directory = answer.steps.iter().rev().find(|step| step.check != Check::Imprint)?;
    Some((format!("{}: {}", quoted(&directory.path), directory.fact), directory.from.clone()))
}
