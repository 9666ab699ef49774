//! Holding acts of one stage against the kernel.

use mivask_core::act::Act;
use mivask_core::outcome::{Effect, Imprint};
use mivask_core::question::{Answer, Outcome, ask};
use mivask_core::stage::Stage;
use mivask_kernel::{Bench, KernelError, Observed, UNSEEN_ACL};

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

/// Holds every act against the kernel, each against the untouched stage; answers come in the order of `acts`.
///
/// What cannot be rebuilt here, or hangs on missing facts, comes back as not checked.
///
/// # Errors
/// The bench itself fails.
pub fn hold(stage: &Stage, answers: Vec<Answer>, bench: &Bench) -> Result<Vec<Held>, KernelError> {
    let mut held: Vec<Held> = Vec::with_capacity(answers.len());
    let mut rest = answers.into_iter().peekable();
    while let Some(first) = rest.next() {
        let mut run = vec![first];
        while let Some(next) = rest.next_if(|next| next.act.actor == run[0].act.actor) {
            run.push(next);
        }
        held.append(&mut hold_one_actor(stage, run, bench)?);
    }
    Ok(held)
}

/// Asks for the prediction of each act.
///
/// # Errors
/// An act names no actor of the stage, or several.
pub fn predict(stage: &Stage, acts: &[Act]) -> Result<Vec<Answer>, mivask_core::stage::ActorError> {
    acts.iter().map(|act| ask(stage, act)).collect()
}

fn hold_one_actor(stage: &Stage, answers: Vec<Answer>, bench: &Bench) -> Result<Vec<Held>, KernelError> {
    let reasons: Vec<Option<String>> = answers.iter().map(not_checkable).collect();
    let acts: Vec<Act> = answers
        .iter()
        .zip(&reasons)
        .filter(|(_, reason)| reason.is_none())
        .map(|(answer, _)| answer.act.clone())
        .collect();
    let observed = match stage.actor(&answers[0].act.actor) {
        Ok(actor) if !acts.is_empty() => bench.attempt(stage, actor, &acts),
        Ok(_) | Err(_) => Ok(Vec::new()),
    };
    let (mut observed, unsupported) = match observed {
        Ok(observed) => (observed.into_iter(), String::new()),
        Err(error @ KernelError::Unsupported(_)) => (Vec::new().into_iter(), error.to_string()),
        Err(error) => return Err(error),
    };
    let pairs = answers.into_iter().zip(reasons);
    Ok(pairs
        .map(|(answer, reason)| {
            let result = match reason {
                Some(reason) => Comparison::NotChecked(reason),
                None => match observed.next() {
                    Some(observed) if agrees(&answer, &observed) => Comparison::Same(observed),
                    Some(observed) => Comparison::Different(observed),
                    None => Comparison::NotChecked(unsupported.clone()),
                },
            };
            Held { answer, result }
        })
        .collect())
}

/// Why no kernel can be asked.
fn not_checkable(answer: &Answer) -> Option<String> {
    match &answer.outcome {
        Outcome::Allowed | Outcome::Denied(Some(_)) => None,
        Outcome::Denied(None) | Outcome::Depends => {
            let facts: Vec<&str> =
                answer.depends_on.iter().map(|dependence| dependence.fact.as_str()).take(1).collect();
            Some(format!("the prediction depends on {}", facts.join("")))
        }
        Outcome::NeverRuns(refusal) => Some(format!("the actor never runs: {}", refusal.reason)),
    }
}

/// Whether the kernel did what was predicted; what the prediction leaves open is not compared.
#[must_use]
pub fn agrees(answer: &Answer, observed: &Observed) -> bool {
    match (&answer.outcome, observed) {
        (Outcome::Allowed, Observed::Allowed(seen)) => same_effect(&answer.effect, seen),
        (Outcome::Denied(errno), Observed::Denied(seen)) => *errno == Some(*seen),
        _ => false,
    }
}

fn same_effect(predicted: &Effect, seen: &Effect) -> bool {
    let ran = match (&predicted.runs_as, &seen.runs_as) {
        (Some(predicted), Some(seen)) => predicted == seen,
        (None, _) => true,
        (Some(_), None) => false,
    };
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
    let settled = predicted.mode.is_some();
    open(predicted.uid.as_ref(), seen.uid.as_ref())
        && open(predicted.gid.as_ref(), seen.gid.as_ref())
        && open(predicted.mode.as_ref(), seen.mode.as_ref())
        && open(predicted.disk_uid.as_ref(), seen.disk_uid.as_ref())
        && open(predicted.disk_gid.as_ref(), seen.disk_gid.as_ref())
        && (!settled || predicted.acl == seen.acl || seen.acl.as_deref() == Some(UNSEEN_ACL))
}
