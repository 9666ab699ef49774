//! One act: its outcome, what it leaves, and what it depends on.

use std::sync::Arc;

use crate::act::{Act, Expectation};
use crate::cast::ActorError;
use crate::decide::decide;
use crate::explore::{Decision, Explored, Explorer, explore};
use crate::identity::Refusal;
use crate::outcome::{Effect, Errno, Imprint, Verdict};
use crate::stage::{Actor, Stage};
use crate::trace::Step;
use crate::view::View;

/// How an act ends as far as the facts settle it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Outcome {
    /// It succeeds.
    Allowed,
    /// It fails; `None` where the errno depends on a missing fact.
    Denied(Option<Errno>),
    /// It hangs on a missing fact.
    Depends,
    /// The actor never runs.
    NeverRuns(Refusal),
}

impl Outcome {
    /// The word used in JSON and text.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Allowed => "allowed",
            Self::Denied(_) => "denied",
            Self::Depends => "depends",
            Self::NeverRuns(_) => "never-runs",
        }
    }

    /// The errno, where it is denied with a certain one.
    #[must_use]
    pub const fn errno(&self) -> Option<Errno> {
        match self {
            Self::Denied(errno) => *errno,
            Self::Allowed | Self::Depends | Self::NeverRuns(_) => None,
        }
    }
}

/// How an act ends if missing facts turn out one way.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Dependence {
    /// The missing facts.
    pub fact: String,
    /// What each would have to be, in the order the act meets them.
    pub conditions: Vec<String>,
    /// What the user can add to settle them.
    pub settle: Vec<Arc<str>>,
    /// How the act then ends.
    pub verdict: Verdict,
}

impl Dependence {
    /// Every condition in one text.
    #[must_use]
    pub fn when(&self) -> String {
        self.conditions.join("; ")
    }
}

/// The answer to one act.
#[derive(Clone, Debug)]
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
    /// What was taken for granted.
    pub assumptions: Vec<Arc<str>>,
    /// The checks, in order (of the first possibility).
    pub steps: Vec<Step>,
    /// Whether some combinations of missing facts were left out.
    pub cut_short: bool,
}

impl Answer {
    /// Whether the act's expectation holds; `None` where it has none. A `depends` never holds.
    #[must_use]
    pub fn holds(&self) -> Option<bool> {
        let expected = self.act.expectation?;
        Some(match expected {
            Expectation::Allowed => self.outcome == Outcome::Allowed,
            Expectation::Denied(None) => matches!(self.outcome, Outcome::Denied(_)),
            Expectation::Denied(errno) => self.outcome == Outcome::Denied(errno),
            Expectation::Leaves { uid, gid, mode } => {
                let left = self.effect.imprint.as_ref();
                self.outcome == Outcome::Allowed
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
    Ok(ask_as(stage, stage.actor(&act.actor)?, act))
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
            assumptions: Vec::new(),
            steps: Vec::new(),
            cut_short: false,
        };
    }
    let explored = explored(stage, actor, |view, w| decide(view, &act.verb, &act.path, w));
    let (outcome, effect, depends_on) = settle(&explored);
    let mut assumptions: Vec<Arc<str>> = explored.assumptions.into_iter().collect();
    assumptions.extend(actor.identity.assumptions.iter().cloned());
    let (steps, cut_short) = (explored.steps, explored.cut_short);
    Answer { act: act.clone(), actor: name, outcome, effect, depends_on, assumptions, steps, cut_short }
}

/// Decides something for `actor` under every possibility that matters.
pub(super) fn explored(
    stage: &Stage,
    actor: &Actor,
    decide: impl Fn(&View<'_>, &mut Explorer) -> Verdict,
) -> Explored {
    let name = actor.name.to_string();
    explore(|w| {
        let who = actor.choose_credentials(w);
        let mut view = View::new(stage, &actor.mounts, who, &name);
        view.all_devices = actor.all_devices;
        decide(&view, w)
    })
}

/// One outcome out of all endings, what they agree on, and the endings where they differ.
pub(crate) fn settle(explored: &Explored) -> (Outcome, Effect, Vec<Dependence>) {
    if let (Decision::Settled(verdict), false) = (&explored.decision, explored.cut_short) {
        return match verdict {
            Ok(effect) => (Outcome::Allowed, effect.clone(), Vec::new()),
            Err(errno) => (Outcome::Denied(Some(*errno)), Effect::default(), Vec::new()),
        };
    }
    let endings = explored.decision.endings();
    let allowed = endings.iter().filter(|ending| ending.verdict.is_ok()).count();
    let first = endings[0].verdict.as_ref().err().copied();
    let outcome = if explored.cut_short {
        Outcome::Depends
    } else if allowed == endings.len() {
        Outcome::Allowed
    } else if allowed == 0 {
        let same = endings.iter().all(|ending| ending.verdict.as_ref().err().copied() == first);
        Outcome::Denied(if same { first } else { None })
    } else {
        Outcome::Depends
    };
    let effect = if outcome == Outcome::Allowed {
        agreed(endings.iter().map(|ending| &ending.verdict))
    } else {
        Effect::default()
    };
    let depends_on = endings
        .into_iter()
        .map(|ending| {
            let mut facts: Vec<&str> = ending.conditions.iter().map(|(unknown, _)| &*unknown.fact).collect();
            facts.dedup();
            let conditions = ending.conditions.iter().map(|(_, when)| when.clone()).collect();
            let mut settle: Vec<Arc<str>> =
                ending.conditions.iter().map(|(unknown, _)| unknown.settle.clone()).collect();
            settle.dedup();
            Dependence { fact: facts.join("; "), conditions, settle, verdict: ending.verdict.clone() }
        })
        .collect();
    (outcome, effect, depends_on)
}

fn agreed<'a>(verdicts: impl Iterator<Item = &'a Verdict>) -> Effect {
    let effects = verdicts.filter_map(|verdict| verdict.as_ref().ok());
    effects
        .cloned()
        .reduce(|a, b| Effect {
            imprint: match (a.imprint, b.imprint) {
                (Some(a), Some(b)) => Some(a.agreed(&b)),
                (Some(_), None) | (None, Some(_)) => Some(Imprint::default()),
                (None, None) => None,
            },
            runs_as: if a.runs_as == b.runs_as { a.runs_as } else { None },
        })
        .unwrap_or_default()
}
