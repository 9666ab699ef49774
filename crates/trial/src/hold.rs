//! Holding acts of one stage against the kernel.

use mivask_core::act::Act;
use mivask_core::question::{Answer, Comparison, Held, ask, compare, unsettled};
use mivask_core::stage::{ActorError, Stage};
use mivask_kernel::{Bench, KernelError};

/// Asks for the prediction of each act.
///
/// # Errors
/// An act names no actor of the stage, or several.
pub fn predict(stage: &Stage, acts: &[Act]) -> Result<Vec<Answer>, ActorError> {
    acts.iter().map(|act| ask(stage, act)).collect()
}

/// Holds every act against the kernel, each against the untouched stage; answers come in the order of `answers`.
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

/// The same in a user namespace of our own, where capabilities count less than on a host: acts of actors with any
/// come back as not checked, and so does everything whose ids have no mapping.
///
/// # Errors
/// The bench itself fails.
pub fn hold_unprivileged(
    stage: &Stage,
    answers: Vec<Answer>,
    bench: &Bench,
) -> Result<Vec<Held>, KernelError> {
    let mut held = Vec::with_capacity(answers.len());
    for answer in answers {
        let capable = stage.actor(&answer.act.actor).is_ok_and(|actor| {
            actor.credentials.iter().any(|who| !who.effective.is_empty() || !who.namespace.is_initial())
        });
        if capable {
            let reason =
                "without root, no actor with capabilities or a user namespace of its own can be rebuilt";
            held.push(Held { answer, result: Comparison::NotChecked(reason.to_owned()) });
            continue;
        }
        match hold(stage, vec![answer.clone()], bench) {
            Ok(mut one) => held.append(&mut one),
            // Some id, device or attribute that only root can give.
            Err(KernelError::Step { step, error }) => {
                let reason = format!("without root it cannot be rebuilt: {step}: {error}");
                held.push(Held { answer, result: Comparison::NotChecked(reason) });
            }
            Err(error) => return Err(error),
        }
    }
    Ok(held)
}

fn hold_one_actor(stage: &Stage, answers: Vec<Answer>, bench: &Bench) -> Result<Vec<Held>, KernelError> {
    let settled: Vec<Act> = answers
        .iter()
        .filter(|answer| unsettled(answer).is_none())
        .map(|answer| answer.act.clone())
        .collect();
    let observed = match stage.actor(&answers[0].act.actor) {
        Ok(actor) if !settled.is_empty() => bench.attempt(stage, actor, &settled),
        Ok(_) | Err(_) => Ok(Vec::new()),
    };
    let (observed, unsupported) = match observed {
        Ok(observed) => (observed, String::new()),
        Err(KernelError::Unsupported(reason)) => (Vec::new(), format!("cannot be rebuilt here: {reason}")),
        Err(error) => return Err(error),
    };
    let mut observed = observed.into_iter();
    let mut beside = |answer: Answer| {
        let result = match unsettled(&answer) {
            Some(reason) => Comparison::NotChecked(reason),
            None => match observed.next() {
                Some(observed) => compare(&answer, observed),
                None => Comparison::NotChecked(unsupported.clone()),
            },
        };
        Held { answer, result }
    };
    Ok(answers.into_iter().map(&mut beside).collect())
}
