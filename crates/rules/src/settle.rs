//! One outcome out of every possibility that was tried.

use std::sync::Arc;

use mivask_model::outcome::{Effect, Errno, Imprint, Verdict};
use mivask_model::refusal::Refusal;

use crate::explore::{Decision, Explored};

/// How an act ends as far as the facts settle it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Outcome {
    /// It succeeds.
    Allowed,
    /// It fails; `None` where the errno depends on a missing fact.
    Denied(Option<Errno>),
    /// It depends on a missing fact.
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
#[non_exhaustive]
pub struct Dependence {
    /// The missing facts.
    pub fact: String,
    /// What each would have to be, in the order the act meets them.
    pub conditions: Vec<String>,
    /// What the user can add to settle them.
    pub settle: Vec<Arc<str>>,
    /// How the act then ends.
    pub end: End,
}

/// How one possibility ends.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum End {
    /// The act is tried.
    Act(Verdict),
    /// The actor never runs.
    NeverRuns,
}

impl End {
    /// What the act leaves, where it succeeds.
    #[must_use]
    pub const fn effect(&self) -> Option<&Effect> {
        match self {
            Self::Act(Ok(effect)) => Some(effect),
            Self::Act(Err(_)) | Self::NeverRuns => None,
        }
    }

    /// Why it fails, where it is tried and does.
    #[must_use]
    pub const fn errno(&self) -> Option<Errno> {
        match self {
            Self::Act(Err(errno)) => Some(*errno),
            Self::Act(Ok(_)) | Self::NeverRuns => None,
        }
    }

    /// The word used in JSON.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Act(Ok(_)) => "allowed",
            Self::Act(Err(_)) => "denied",
            Self::NeverRuns => "never-runs",
        }
    }
}

impl Dependence {
    /// One possibility.
    #[must_use]
    pub const fn new(fact: String, conditions: Vec<String>, settle: Vec<Arc<str>>, end: End) -> Self {
        Self { fact, conditions, settle, end }
    }

    /// Every condition in one text.
    #[must_use]
    pub fn when(&self) -> String {
        self.conditions.join("; ")
    }
}

/// One outcome out of all endings, what they agree on, and the endings where they differ.
pub fn settle(explored: &Explored) -> (Outcome, Effect, Vec<Dependence>) {
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
            Dependence { fact: facts.join("; "), conditions, settle, end: End::Act(ending.verdict.clone()) }
        })
        .collect();
    (outcome, effect, depends_on)
}

/// What all that succeed leave alike.
#[must_use]
pub fn agreed<'a>(verdicts: impl Iterator<Item = &'a Verdict>) -> Effect {
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
