//! One act: its outcome, what it leaves, and what it depends on.

use std::sync::Arc;

use mivask_model::act::{Act, Expectation, Verb};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::outcome::{Effect, Verdict};
use mivask_rules::decide::decide;
use mivask_rules::explore::{AsUsual, Explored, Explorer, explore, follow_usual};
use mivask_rules::settle::{Dependence, Outcome, agreed, settle};
use mivask_rules::trace::{Check, Step, StepResult};
use mivask_rules::usually::Usually;
use mivask_rules::view::View;
use mivask_stage::actor_names::ActorError;
use mivask_stage::stage::{Actor, Stage};

use super::facts::facts_at;
use super::nearest::nearest;
use super::start::{if_it_starts, usually_if_it_starts};

/// The answer to one act.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Answer {
    /// The act.
    pub act: Act,
    /// The actor's name in the scene.
    pub actor: String,
    /// How it ends.
    pub outcome: Outcome,
    /// What it leaves, as far as every possibility agrees.
    pub effect: Effect,
    /// The possibilities, where there is more than one ending.
    pub depends_on: Vec<Dependence>,
    /// How it ends where every missing fact that matters is as usual; only where the outcome is [`Outcome::Depends`].
    pub usually: Option<Usually>,
    /// What was taken for granted.
    pub assumptions: Vec<Arc<str>>,
    /// The checks, in order: where an act is usually allowed or denied those of the usual possibility, else of the first.
    pub steps: Vec<Step>,
    /// Whether some combinations of missing facts were left out.
    pub cut_short: bool,
    /// Where a name is missing that is nearly one that is there: the path with that one.
    pub nearest: Option<Vec<u8>>,
}

impl Answer {
    /// The check that decides: the one that failed, or whose bits, ACL, capability or ownership let the act through. `None`
    /// where it depends on a missing fact, or where the actor never runs.
    #[must_use]
    pub fn deciding(&self) -> Option<&Step> {
        let mut latest_first = self.steps.iter().rev();
        match self.outcome {
            Outcome::Denied(_) => latest_first.find(|step| matches!(step.result, StepResult::Failed(_))),
            Outcome::Allowed => latest_first.find(|step| step.check.is_permission()),
            Outcome::Depends | Outcome::NeverRuns(_) => None,
        }
    }

    /// Whether the act's expectation holds; `None` where it has none. A `depends` never holds.
    #[must_use]
    pub fn holds(&self) -> Option<bool> {
        self.would_hold(&self.outcome, &self.effect)
    }

    /// The same if the act ended like that.
    pub(crate) fn would_hold(&self, outcome: &Outcome, effect: &Effect) -> Option<bool> {
        let expected = self.act.expectation?;
        Some(match expected {
            Expectation::Allowed => *outcome == Outcome::Allowed,
            Expectation::Denied(None) => matches!(outcome, Outcome::Denied(_)),
            Expectation::Denied(errno) => *outcome == Outcome::Denied(errno),
            Expectation::Leaves { uid, gid, mode } => {
                let left = effect.imprint.as_ref();
                *outcome == Outcome::Allowed
                    && left.is_some_and(|left| {
                        uid.is_none_or(|uid| left.uid.is_some_and(|id| id.raw() == uid))
                            && gid.is_none_or(|gid| left.gid.is_some_and(|id| id.raw() == gid))
                            && (mode.is_none() || left.mode == mode)
                    })
            }
        })
    }
}

/// Answers one act against the untouched stage.
///
/// # Errors
/// The act names no actor, or several.
pub fn ask(stage: &Stage, act: &Act) -> Result<Answer, ActorError> {
    let actor = stage.actor(&act.actor)?;
    let mut answer = ask_as(stage, actor, act);
    let missing = answer.deciding().is_some_and(|step| step.check == Check::Lookup);
    answer.nearest = if missing { nearest(stage, actor, &act.path) } else { None };
    Ok(answer)
}

/// The same for an actor of the stage, whatever name the act has: two workloads of one name may have a container of one
/// name, too.
#[must_use]
pub fn ask_as(stage: &Stage, actor: &Actor, act: &Act) -> Answer {
    let name = actor.name.to_string();
    if let Some(refusal) = actor.refusal() {
        return Answer {
            act: act.clone(),
            actor: name,
            outcome: Outcome::NeverRuns(refusal.clone()),
            effect: Effect::default(),
            depends_on: Vec::new(),
            usually: None,
            assumptions: Vec::new(),
            steps: Vec::new(),
            cut_short: false,
            nearest: None,
        };
    }
    let explored = explored(stage, actor, |view, w| decide(view, &act.verb, &act.path, w));
    let (outcome, effect, depends_on) = if_it_starts(actor, settle(&explored));
    let mut usually = usually_if_it_starts(actor, &explored, &outcome);
    let of_usual =
        usual_steps(stage, actor, usually.as_mut(), |view, w| decide(view, &act.verb, &act.path, w));
    let mut assumptions: Vec<Arc<str>> = explored.assumptions.into_iter().collect();
    assumptions.extend(actor.identity.assumptions.iter().cloned());
    assumptions.extend(kept_by_tools(stage, actor, act, &effect));
    let steps = of_usual.unwrap_or(explored.steps);
    let cut_short = explored.cut_short;
    Answer {
        act: act.clone(),
        actor: name,
        outcome,
        effect,
        depends_on,
        usually,
        assumptions,
        steps,
        cut_short,
        nearest: None,
    }
}

/// chmod(1) is not chmod(2) where a number takes the set-group-ID bit of a directory away (docs/facts/tools.md section 2).
fn kept_by_tools(stage: &Stage, actor: &Actor, act: &Act, effect: &Effect) -> Option<Arc<str>> {
    let Verb::SetsMode(change) = &act.verb else { return None };
    let left = effect.imprint.as_ref()?.mode?;
    let facts = facts_at(stage, actor, &act.path)?;
    if facts.kind != FileKind::Directory || !facts.mode?.has(Mode::SET_GROUP_ID) {
        return None;
    }
    if left.has(Mode::SET_GROUP_ID) {
        let busybox = change
            .assigns()
            .then_some("`=` keeps the set-group-ID bit of a directory, as in coreutils; busybox takes it");
        return busybox.map(Arc::from);
    }
    change.is_number().then(|| {
        "the mode is set by the system call: chmod of coreutils keeps the set-group-ID bit of a directory unless five digits \
         (00755) or g-s are written, busybox takes it"
            .into()
    })
}

/// The checks behind what is usual, which gets all that it leaves there.
pub(super) fn usual_steps(
    stage: &Stage,
    actor: &Actor,
    usually: Option<&mut Usually>,
    decide: impl Fn(&View<'_>, &mut Explorer) -> Verdict,
) -> Option<Vec<Step>> {
    let usually = usually?;
    let AsUsual { steps, verdicts } = follow_usual(|w| {
        let who = actor.choose_credentials(w);
        decide(&stage.view(actor, who, &actor.name), w)
    });
    if usually.outcome == Outcome::Allowed && verdicts.iter().all(Result::is_ok) {
        usually.effect = agreed(verdicts.iter());
    }
    Some(steps)
}

/// Decides something for `actor` under every possibility that matters.
pub(crate) fn explored(
    stage: &Stage,
    actor: &Actor,
    decide: impl Fn(&View<'_>, &mut Explorer) -> Verdict,
) -> Explored {
    let name = actor.name.to_string();
    explore(|w| {
        let who = actor.choose_credentials(w);
        decide(&stage.view(actor, who, &name), w)
    })
}
