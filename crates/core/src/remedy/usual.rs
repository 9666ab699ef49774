//! What helps where an act depends on missing facts and is usually denied.

use mivask_model::act::Act;
use mivask_rules::settle::Outcome;

use super::situation::Situation;
use super::{Base, Remedies, Wish, mended};
use crate::question::ask;

/// `told`, or what helps where missing facts are as usual: only where nothing helps whatever they are.
pub(super) fn instead(situation: &Situation<'_>, act: &Act, told: Remedies) -> Remedies {
    let Some(usually) = &told.answer.usually else { return told };
    if !told.remedies.is_empty() || !matches!(usually.outcome, Outcome::Denied(_)) {
        return told;
    }
    let scene = situation.scene().as_usual();
    let situation = situation.of(&scene, situation.changes);
    let base = Base::new(&situation);
    let Ok(answer) = ask(&base.stage, act) else { return told };
    // Some usual facts are no part of a scene; where one of them decides, nothing is known of what helps.
    if answer.outcome != usually.outcome {
        return told;
    }
    let as_usual = usually.rests_on.iter().cloned().collect();
    let found = mended((&base, &base.baselines()), &Wish::to(act), answer);
    Remedies { answer: told.answer, as_usual, ..found }
}
