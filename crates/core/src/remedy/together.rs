//! Several denied acts at once: one set of changes for all of them.

use std::sync::Arc;

use mivask_model::act::Act;
use mivask_rules::settle::Outcome;
use mivask_stage::actor_names::ActorError;
use mivask_stage::prepare::stage;
use mivask_stage::scene::Scene;
use mivask_stage::stage::Stage;

use super::situation::{Base, Situation};
use super::wish::Wish;
use super::{Remedy, RemedyStep, Rung, Tried, goal, measured, mended};
use crate::change::{Change, Changes};
use crate::question::{Answer, ask};

/// Acts that one set of changes is looked for at most.
pub const MOST_ACTS: usize = 1000;
/// Refused ones among them that are mended at most.
pub const MOST_REFUSED: usize = 100;

/// What makes several acts succeed.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Together {
    /// How each act ends now, in the order they were given.
    pub answers: Vec<Answer>,
    /// One set of changes for all that can be mended, none of which can be left out; `None` where nothing has to be changed,
    /// or nothing helps.
    pub remedy: Option<Remedy>,
    /// What is still refused then, with what to know about it.
    pub left: Vec<(Answer, Option<String>)>,
}

/// Searches for one set of changes that lets all of `acts` succeed and keeps every one that succeeds now.
///
/// The first act that is refused is mended by whichever of its remedies mends most of the others along with it, the narrowest
/// of these, and so on; what turns out to be needless is left out again.
///
/// # Errors
/// An act names no actor, or several.
pub fn together(situation: &Situation<'_>, acts: &[Act]) -> Result<Together, ActorError> {
    let base = Base::new(situation);
    let answers = acts.iter().map(|act| ask(&base.stage, act)).collect::<Result<Vec<_>, _>>()?;
    let mut state = State { situation, acts, steps: Vec::new(), notes: Vec::new() };
    let refused = (0..acts.len()).filter(|at| !goal(&answers[*at]));
    let mut left: Vec<usize> = refused.skip(MOST_REFUSED).collect();
    let too_many = || Some(format!("{MOST_REFUSED} refused acts are mended together at most"));
    let mut hints: Vec<(usize, Option<String>)> = left.iter().map(|at| (*at, too_many())).collect();
    loop {
        let reached = state.reached(&state.steps);
        let next = (0..acts.len()).find(|at| !reached[*at] && !left.contains(at));
        let Some(at) = next else { break };
        match state.mends(at, &reached) {
            Ok(remedy) => {
                state.steps.extend(remedy.steps);
                state.notes.extend(remedy.notes);
            }
            Err(hint) => {
                left.push(at);
                hints.push((at, hint));
            }
        }
    }
    state.prune();
    let Some(last) = answers.last().filter(|_| !state.steps.is_empty()).cloned() else {
        let left = hints.into_iter().map(|(at, hint)| (answers[at].clone(), hint)).collect();
        return Ok(Together { answers, remedy: None, left });
    };
    let (changed, now) = state.made(&state.steps);
    let after = |at: usize| ask(&now, &acts[at]).unwrap_or_else(|_| answers[at].clone());
    // What a later remedy mended along with its own act is not left.
    let left = hints.into_iter().map(|(at, hint)| (after(at), hint));
    let left = left.filter(|(answer, _)| !goal(answer)).collect();
    let tried = Tried {
        steps: state.steps,
        scene: Arc::new(changed),
        answer: last,
        reached: true,
        notes: state.notes,
    };
    let remedy = measured::measured((&base, &base.baselines()), &measured::Goals::Acts(acts), tried);
    Ok(Together { answers, remedy, left })
}

/// What is changed so far.
struct State<'a> {
    situation: &'a Situation<'a>,
    acts: &'a [Act],
    steps: Vec<RemedyStep>,
    notes: Vec<String>,
}

impl State<'_> {
    /// The scene with the changes of `steps` to descriptions, and all changes of files, the user's first.
    fn parts(&self, steps: &[RemedyStep]) -> (Scene, Changes) {
        let is_file = |change: &&Change| matches!(change, Change::Files(_));
        let all: Vec<&Change> = steps.iter().map(|step| &step.change).collect();
        let described = all.iter().copied().filter(|change| !is_file(change)).cloned().collect();
        let mut scene = self.situation.scene.clone();
        // They were made without an error when they were found.
        let _ = Changes::new(described).apply_to_scene(&mut scene);
        let files = all.into_iter().filter(is_file).cloned();
        (scene, self.situation.changes.and(files))
    }

    /// The scene and the stage after `steps`.
    fn made(&self, steps: &[RemedyStep]) -> (Scene, Stage) {
        let (scene, changes) = self.parts(steps);
        let mut now = stage(&scene);
        let done = changes.apply_to_files(&mut now).is_ok();
        let now = if done { now } else { stage(&scene) };
        (scene, now)
    }

    /// Which acts succeed after `steps`.
    fn reached(&self, steps: &[RemedyStep]) -> Vec<bool> {
        let (_, now) = self.made(steps);
        self.acts.iter().map(|act| ask(&now, act).is_ok_and(|answer| goal(&answer))).collect()
    }

    /// The remedy for the act `at` that mends most others and takes none that succeeds; what to know where there is none.
    fn mends(&self, at: usize, reached: &[bool]) -> Result<Remedy, Option<String>> {
        let (scene, changes) = self.parts(&self.steps);
        let situation = self.situation.of(&scene, &changes);
        let base = Base::new(&situation);
        let Ok(answer) = ask(&base.stage, &self.acts[at]) else { return Err(None) };
        let found = mended((&base, &base.baselines()), &Wish::to(&self.acts[at]), answer);
        let mut best: Option<(usize, Remedy)> = None;
        for remedy in found.remedies {
            if remedy.answer.outcome != Outcome::Allowed {
                continue;
            }
            let steps: Vec<RemedyStep> = self.steps.iter().chain(&remedy.steps).cloned().collect();
            let after = self.reached(&steps);
            let keeps = reached.iter().zip(&after).all(|(was, is)| *is || !*was);
            let count = after.iter().filter(|one| **one).count();
            // They come with the narrowest first, so only one that mends more takes its place; root never does, nor what breaks an expectation.
            let wider = remedy.rank.worst() >= Rung::Breaking && best.is_some();
            if after[at] && keeps && !wider && best.as_ref().is_none_or(|(most, _)| count > *most) {
                best = Some((count, remedy));
            }
        }
        best.map(|(_, remedy)| remedy).ok_or(found.besides.or(found.hint))
    }

    /// Leaves out every step without which as many acts succeed.
    fn prune(&mut self) {
        let whole = self.reached(&self.steps);
        // One that is left out may make an earlier one needless, so it begins again.
        let mut at = self.steps.len();
        while at > 0 {
            at -= 1;
            let mut fewer = self.steps.clone();
            fewer.remove(at);
            if self.reached(&fewer) == whole {
                self.steps = fewer;
                at = self.steps.len();
            }
        }
    }
}
