//! Holding acts of one stage against the kernel.

use mivask_core::act::Act;
use mivask_core::actor_names::ActorError;
use mivask_core::question::{Answer, Comparison, Held, ask, compare, facts_at, unsettled};
use mivask_core::stage::{Actor, Stage};
use mivask_kernel::{Bench, KernelError, cannot_build};

/// Asks for the prediction of each act.
///
/// # Errors
/// An act names no actor of the stage, or several.
pub fn predict(stage: &Stage, acts: &[Act]) -> Result<Vec<Answer>, ActorError> {
    acts.iter().map(|act| ask(stage, act)).collect()
}

/// Holds every act against the kernel, each against the untouched stage; answers come in the order of `answers`.
///
/// What cannot be rebuilt here, or depends on missing facts, comes back as not checked.
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

/// The same in a user namespace of our own, where capabilities count less than on a host: acts of actors with any there
/// come back as not checked, and so does everything whose ids have no mapping. `lacks` says why no actor with a user
/// namespace of its own can be rebuilt in it.
///
/// # Errors
/// The bench itself fails.
pub fn hold_unprivileged(
    stage: &Stage,
    answers: Vec<Answer>,
    (bench, lacks): (&Bench, Option<&str>),
) -> Result<Vec<Held>, KernelError> {
    let mut held = Vec::with_capacity(answers.len());
    for answer in answers {
        if let Some(reason) = takes_root(stage, &answer, lacks) {
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

/// Why only root could rebuild what this act meets.
fn takes_root<'l>(stage: &Stage, answer: &Answer, lacks: Option<&'l str>) -> Option<&'l str> {
    let actor = stage.actor(&answer.act.actor).ok()?;
    if actor.credentials.iter().any(|who| !who.effective.is_empty() && who.namespace.is_initial()) {
        return Some("without root, no actor with capabilities on the host can be rebuilt");
    }
    if let Some(lacks) = lacks.filter(|_| actor.credentials.iter().any(|who| !who.namespace.is_initial())) {
        return Some(lacks);
    }
    let device = |path: &[u8]| facts_at(stage, actor, path).is_some_and(|facts| facts.kind.is_device());
    let met = answer.steps.iter().any(|step| device(&step.path));
    met.then_some("without root, no device can be made")
}

fn hold_one_actor(stage: &Stage, answers: Vec<Answer>, bench: &Bench) -> Result<Vec<Held>, KernelError> {
    let Ok(actor) = stage.actor(&answers[0].act.actor) else {
        return Ok(Vec::new());
    };
    let reasons: Vec<Option<String>> = answers
        .iter()
        .map(|answer| unsettled(answer).or_else(|| out_of_reach(stage, actor, answer)))
        .collect();
    let pairs = answers.iter().zip(&reasons);
    let tried: Vec<Act> =
        pairs.filter(|(_, reason)| reason.is_none()).map(|(answer, _)| answer.act.clone()).collect();
    let observed = if tried.is_empty() { Ok(Vec::new()) } else { bench.attempt(stage, actor, &tried) };
    let (observed, unsupported) = match observed {
        Ok(observed) => (observed, String::new()),
        Err(KernelError::Unsupported(reason)) => (Vec::new(), format!("cannot be rebuilt here: {reason}")),
        Err(error) => return Err(error),
    };
    let mut observed = observed.into_iter();
    let mut beside = |(answer, reason): (Answer, Option<String>)| {
        let result = match reason {
            Some(reason) => Comparison::NotChecked(reason),
            None => match observed.next() {
                Some(observed) => compare(&answer, observed),
                None => Comparison::NotChecked(unsupported.clone()),
            },
        };
        Held { answer, result }
    };
    Ok(answers.into_iter().zip(reasons).map(&mut beside).collect())
}

/// Why an act that comes near a mount which cannot be built is not tried.
fn out_of_reach(stage: &Stage, actor: &Actor, answer: &Answer) -> Option<String> {
    actor.mounts.iter().find_map(|(_, mount)| {
        let reason = cannot_build(stage.source(mount.variants[0].source))?;
        let at = &*mount.facts.at;
        let near = answer.steps.iter().any(|step| {
            step.path.strip_prefix(at).is_some_and(|rest| rest.is_empty() || rest[0] == b'/' || at == b"/")
        });
        near.then_some(reason)
    })
}
