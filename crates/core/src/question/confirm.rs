//! A prediction beside what a kernel really did.

use mivask_model::observed::{Observed, UNSEEN_ACL};
use mivask_model::outcome::{Effect, Imprint};
use mivask_rules::settle::Outcome;

use super::ask::Answer;

/// One act, what was predicted, and what the kernel did.
#[derive(Clone, Debug)]
pub struct Held {
    /// The prediction.
    pub answer: Answer,
    /// What came of holding it against the kernel.
    pub result: Comparison,
}

/// How prediction and kernel compare.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Comparison {
    /// Both are the same, errno, owner, mode, ACL and identity included.
    Same(Observed),
    /// They differ; this is what the kernel did.
    Different(Observed),
    /// It could not be held against the kernel, and why.
    NotChecked(String),
}

/// Why no kernel can be asked about this act: its prediction is not settled, or the actor never runs.
#[must_use]
pub fn unsettled(answer: &Answer) -> Option<String> {
    match &answer.outcome {
        Outcome::Allowed | Outcome::Denied(Some(_)) => None,
        Outcome::Denied(None) | Outcome::Depends => {
            let fact = answer.depends_on.first().map_or("a missing fact", |one| one.fact.as_str());
            Some(format!("the prediction depends on {fact}"))
        }
        Outcome::NeverRuns(refusal) => Some(format!("the actor never runs: {}", refusal.reason)),
    }
}

/// Holds `answer` against what was observed; what the prediction leaves open is not compared.
#[must_use]
pub fn compare(answer: &Answer, observed: Observed) -> Comparison {
    let same = match (&answer.outcome, &observed) {
        (Outcome::Allowed, Observed::Allowed(seen)) => same_effect(&answer.effect, seen),
        (Outcome::Denied(errno), Observed::Denied(seen)) => *errno == Some(*seen),
        _ => false,
    };
    if same { Comparison::Same(observed) } else { Comparison::Different(observed) }
}

fn same_effect(predicted: &Effect, seen: &Effect) -> bool {
    let ran = predicted.runs_as.is_none() || predicted.runs_as == seen.runs_as;
    ran && match (&predicted.imprint, &seen.imprint) {
        (None, None) => true,
        (Some(predicted), Some(seen)) => same_imprint(predicted, seen),
        (None, Some(_)) | (Some(_), None) => false,
    }
}

fn same_imprint(predicted: &Imprint, seen: &Imprint) -> bool {
    fn open<T: PartialEq>(predicted: Option<&T>, seen: Option<&T>) -> bool {
        predicted.is_none() || predicted == seen
    }
    // Where the mode is open, so is the ACL.
    let acl =
        predicted.mode.is_none() || predicted.acl == seen.acl || seen.acl.as_deref() == Some(UNSEEN_ACL);
    let default_acl = predicted.mode.is_none() || predicted.default_acl == seen.default_acl;
    acl && default_acl
        && open(predicted.uid.as_ref(), seen.uid.as_ref())
        && open(predicted.gid.as_ref(), seen.gid.as_ref())
        && open(predicted.mode.as_ref(), seen.mode.as_ref())
        && open(predicted.disk_uid.as_ref(), seen.disk_uid.as_ref())
        && open(predicted.disk_gid.as_ref(), seen.disk_gid.as_ref())
}
