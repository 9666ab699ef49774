//! What a remedy is to reach: that an act succeeds, or that a path is no wider than a strict program takes it.

use mivask_model::act::{Act, Verb, quoted};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::settle::Outcome;
use mivask_rules::walk::Follow;
use mivask_stage::actor_names::ActorError;
use mivask_stage::scene::Scene;
use mivask_stage::stage::{Actor, Stage};

use super::made::{Made, MadeError};
use super::{Tried, goal};
use crate::exposure::Limit;
use crate::question::joined::Joined;
use crate::question::{Answer, ask};
use crate::width::{TooWide, Width, width};

/// What is wished for.
pub(super) struct Wish<'a> {
    /// The act; of a limit, a look at the path by whoever sees it.
    pub act: Act,
    /// How wide its path may be, where that is what is wished for.
    pub limit: Option<&'a Limit>,
    /// Who makes what is at the path, where that is another actor's next file.
    pub made: Option<&'a Made>,
    /// Whether no change of that one file is looked for: it stands for many.
    pub one_of_many: bool,
    /// What its actor does with the path and has to be able to do afterwards.
    kept: Option<Act>,
}

/// How a limit stands.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Standing {
    /// The limit, as it was written.
    pub limit: Limit,
    /// Who sees it, and so whose view counts.
    pub actor: String,
    /// How it is broken, such as `wider than 0600`; `None` where it is not, or where that is not known.
    pub wider: Option<String>,
    /// Mode and owner in words; `None` where they are not known, or nothing is there.
    pub fact: Option<String>,
    /// What is not known that would tell; `None` where it is, or nothing is there.
    pub open: Option<String>,
    /// Whether the filesystem-group step widens it whenever the volume is mounted.
    pub again: bool,
}

impl Standing {
    /// Whether the limit holds as things are now.
    #[must_use]
    pub const fn holds(&self) -> bool {
        self.wider.is_none() && self.fact.is_some()
    }
}

impl<'a> Wish<'a> {
    /// That `act` succeeds.
    pub(super) fn to(act: &Act) -> Self {
        Self { act: act.clone(), limit: None, made: None, one_of_many: false, kept: None }
    }

    /// That `act` succeeds on a path that stands for many.
    pub(super) fn of_many(act: &Act) -> Self {
        Self { one_of_many: true, ..Self::to(act) }
    }

    /// That what `made` says succeeds.
    ///
    /// # Errors
    /// It names nobody there is, or two who share nothing.
    pub(super) fn of_made(stage: &Stage, made: &'a Made) -> Result<Self, MadeError> {
        Ok(Self {
            act: made.act(&Joined::new(stage))?,
            limit: None,
            made: Some(made),
            one_of_many: false,
            kept: None,
        })
    }

    /// How its act ends on `stage`; `None` where nobody can be asked.
    pub(super) fn ask(&self, stage: &Stage) -> Option<Answer> {
        match self.made {
            Some(made) => made.ask(stage, &self.act).ok(),
            None => ask(stage, &self.act).ok(),
        }
    }

    /// That `limit` holds for whoever it names, else for the first who sees it broken.
    ///
    /// # Errors
    /// It names nobody there is.
    pub(super) fn within(stage: &Stage, limit: &'a Limit) -> Result<Self, ActorError> {
        let broken = |actor: &&Actor| matches!(width(stage, actor, limit), Width::Wide(_));
        let sees = |actor: &&Actor| {
            matches!(look(&stage.storage, &actor.mounts, &limit.path, Follow::Links), Ok(Sight::There(_)))
        };
        let all = &stage.actors;
        let actor = match &limit.actor {
            Some(name) => Some(stage.actor(name)?),
            None => all.iter().find(broken).or_else(|| all.iter().find(sees)).or(all.first()),
        };
        let actor = actor.map(|actor| actor.name.to_string()).unwrap_or_default();
        let act = Act { actor, verb: Verb::Inspects, path: limit.path.clone(), expectation: None };
        let used = |verb| Act { verb, ..act.clone() };
        let allowed = |act: &Act| ask(stage, act).is_ok_and(|answer| answer.outcome == Outcome::Allowed);
        let kept = [used(Verb::Reads), used(Verb::Lists)].into_iter().find(allowed);
        Ok(Self { act, limit: Some(limit), made: None, one_of_many: false, kept })
    }

    /// How its limit stands.
    pub(super) fn standing(&self, scene: &Scene, stage: &Stage) -> Option<Standing> {
        let limit = self.limit?;
        let actor = stage.actor(&self.act.actor).ok()?;
        let again = widened_again(scene, stage, &self.act);
        let (wider, fact, open) = match width(stage, actor, limit) {
            Width::Absent => (None, None, None),
            Width::Unlisted => (None, None, Some(format!("what is at {}", quoted(&limit.path)))),
            Width::Unknown(what) => (None, None, Some(asked(stage, actor, limit).unwrap_or(what))),
            Width::Fits(fact) => (None, Some(fact), None),
            Width::Wide(TooWide { wider, fact, .. }) => (Some(wider), Some(fact), None),
        };
        Some(Standing { limit: limit.clone(), actor: self.act.actor.clone(), wider, fact, open, again })
    }

    /// Whether `answer` on `stage` is what is wished for, in `scene` and at its next start too.
    pub(super) fn reached(&self, scene: &Scene, stage: &Stage, answer: &Answer) -> bool {
        let Some(standing) = self.standing(scene, stage) else { return goal(answer) };
        let kept = |act: &Act| ask(stage, act).is_ok_and(|answer| answer.outcome == Outcome::Allowed);
        standing.holds() && !standing.again && self.kept.as_ref().is_none_or(kept)
    }

    /// Whether it is worth going on from there.
    pub(super) fn moves_on(&self, from: &Tried, to: &Tried) -> bool {
        match self.limit {
            None => moves_on(from, to),
            Some(_) => to.answer.outcome == Outcome::Allowed,
        }
    }
}

/// The question that a mount leaves open, and how to settle it.
fn asked(stage: &Stage, actor: &Actor, limit: &Limit) -> Option<String> {
    let Ok(Sight::There(place)) = look(&stage.storage, &actor.mounts, &limit.path, Follow::Links) else {
        return None;
    };
    let question = actor.mounts.get(place.mount).facts.question.as_ref()?;
    Some(format!("{}; to settle it: {}", question.fact, question.settle))
}

/// Whether the filesystem-group step sets its bits there again whenever the volume is mounted.
pub(super) fn widened_again(scene: &Scene, stage: &Stage, act: &Act) -> bool {
    let Ok(actor) = stage.actor(&act.actor) else { return false };
    let Ok(Sight::There(place)) = look(&stage.storage, &actor.mounts, &act.path, Follow::Links) else {
        return false;
    };
    let mount = actor.mounts.get(place.mount);
    let stepped = mount.variants.iter().any(|variant| variant.preparation.touches > 0);
    let workload = scene.workloads.iter().find(|workload| *workload.name == *actor.workload);
    let Some(security) = workload.map(|workload| &workload.security) else { return false };
    // A root that is narrower than the step wants is a mismatch, and everything is walked again.
    let spared = security.on_root_mismatch.as_ref().is_some_and(|fact| fact.value)
        && place.inode != Some(mivask_model::tree::Tree::ROOT);
    stepped && security.fs_group.is_some() && !spared && !mount.is_written_by_kubelet()
}

/// Whether something else stops the act now, so that it is worth going on.
fn moves_on(from: &Tried, to: &Tried) -> bool {
    let stopped = |answer: &Answer| {
        answer
            .steps
            .last()
            .map(|step| (step.path.clone(), step.check, step.bits.map(|bits| bits.needed), step.result))
    };
    matches!(to.answer.outcome, Outcome::Denied(_) | Outcome::Allowed)
        && (stopped(&from.answer) != stopped(&to.answer) || to.answer.outcome == Outcome::Allowed)
}
