//! The smallest changes that turn a denied act into an allowed one.
//!
//! Nothing is trusted because it looks right: every change is made on the model and the act is asked again, the walk
//! and everything before it included. What stops the act then is mended in turn, a few changes deep at most. What is
//! left is ranked by what else it opens.

mod candidate;
mod cost;
mod hint;
mod wish;

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::act::{Act, Verb};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::settle::Outcome;
use mivask_rules::walk::Follow;
use mivask_stage::actor_names::ActorError;
use mivask_stage::prepare::stage;
use mivask_stage::scene::Scene;
use mivask_stage::stage::Stage;

use crate::change::{Change, ChangeError, Changes};
use crate::exposure::Limit;
use crate::question::contrast::Baseline;
use crate::question::{Answer, OutcomeChange, ask};
use wish::Wish;

/// Changes that are made together at most.
const DEEPEST: usize = 4;
/// Remedies that are given at most; the rest is wider still.
const MOST_TOLD: usize = 12;
/// Combinations that are tried at most.
const MOST_TRIED: usize = 160;

/// Where a remedy is made.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Side {
    /// In the description: who the process is.
    Process,
    /// In the description: what is mounted, and how.
    Mount,
    /// On a volume or the host: owners, modes, ACLs.
    Disk,
    /// In the image, when it is built.
    Image,
}

impl Side {
    /// The word in answers.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Process => "process",
            Self::Mount => "mount",
            Self::Disk => "disk",
            Self::Image => "image",
        }
    }
}

pub use crate::place::ChangedPlace;
pub use wish::Standing;

/// One change of a remedy.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct RemedyStep {
    /// What is changed.
    pub change: Change,
    /// Where it is made.
    pub side: Side,
    /// Which files it changes in the real world; `None` where it changes a description.
    pub place: Option<ChangedPlace>,
}

/// Something to change, with what follows from it.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Remedy {
    /// The changes, in order.
    pub steps: Vec<RemedyStep>,
    /// What the act leaves then.
    pub answer: Answer,
    /// What else opens, the act itself left out.
    pub opened: Vec<OutcomeChange>,
    /// What is no longer allowed.
    pub closed: Vec<OutcomeChange>,
    /// How many inodes change their owner, group, mode or ACL.
    pub inodes: usize,
    /// What takes it back at the next start, if anything does.
    pub undone: Option<String>,
    /// What to know about it.
    pub notes: Vec<String>,
    /// Whether what it opens was looked for only directly in the mounts, since there is too much else.
    pub partial: bool,
    /// The rank: less is better.
    pub cost: f64,
}

/// What can be done about one act.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Remedies {
    /// How the act ends now; of a limit, how a look at its path does.
    pub answer: Answer,
    /// The limit that is to hold, where that is what is wished for.
    pub standing: Option<Standing>,
    /// What helps, the narrowest first.
    pub remedies: Vec<Remedy>,
    /// What to know where nothing narrow helps, or besides.
    pub hint: Option<String>,
}

impl Remedy {
    /// How many pairs of actor and path it opens for one question or another.
    #[must_use]
    pub fn opens(&self) -> usize {
        self.opened.iter().map(|row| row.paths.len()).sum()
    }
}

/// Where every attempt begins.
struct Base<'a> {
    stage: Stage,
    /// What the user changes anyway.
    changes: &'a Changes,
}

impl<'a> Base<'a> {
    fn new(scene: &Scene, changes: &'a Changes) -> Self {
        Self { stage: staged(scene, changes), changes }
    }

    fn baselines(&self) -> Vec<Baseline<'_>> {
        self.stage.actors.iter().map(|actor| Baseline::new(&self.stage, actor)).collect()
    }
}

/// The stage of `scene` with the files that the user changes anyway.
fn staged(scene: &Scene, changes: &Changes) -> Stage {
    let mut now = stage(scene);
    // They were made without an error before.
    match changes.apply_to_files(&mut now) {
        Ok(_) => now,
        Err(_) => stage(scene),
    }
}

/// One combination of changes, and where it leads.
struct Tried {
    /// In order; where files are changed is looked up once it is known to help.
    steps: Vec<RemedyStep>,
    scene: Arc<Scene>,
    answer: Answer,
    /// Whether that is what was wished for.
    reached: bool,
    notes: Vec<String>,
}

impl Tried {
    /// The stage after the changes, made again on `base` rather than kept: of a large scene each is large.
    ///
    /// # Errors
    /// Files cannot be changed so.
    fn stage(&self, base: &Base<'_>) -> Result<Stage, ChangeError> {
        let described = self.steps.iter().any(|step| !matches!(step.change, Change::Files(_)));
        let mut now = if described { staged(&self.scene, base.changes) } else { base.stage.clone() };
        Changes::new(self.steps.iter().map(|step| step.change.clone()).collect()).apply_to_files(&mut now)?;
        Ok(now)
    }
}

/// Searches for what lets `act` succeed in `scene`; with an expectation of what it leaves, for what fulfils that.
///
/// # Errors
/// The act names no actor, or several.
pub fn remedies(scene: &Scene, changes: &Changes, act: &Act) -> Result<Remedies, ActorError> {
    let base = Base::new(scene, changes);
    mended(scene, (&base, &base.baselines()), &Wish::to(act))
}

/// Searches for what makes a path as narrow as `limit` asks, for whoever it names or the first who sees it wider.
///
/// # Errors
/// The limit names no actor, or several.
pub fn narrowings(scene: &Scene, changes: &Changes, limit: &Limit) -> Result<Remedies, ActorError> {
    let base = Base::new(scene, changes);
    let wish = Wish::within(&base.stage, limit)?;
    mended(scene, (&base, &base.baselines()), &wish)
}

/// The same for each of `acts`, whose scene is prepared and swept once for all.
#[must_use]
pub fn remedies_of_each(scene: &Scene, changes: &Changes, acts: &[Act]) -> Vec<Result<Remedies, ActorError>> {
    let base = Base::new(scene, changes);
    let baselines = base.baselines();
    acts.iter().map(|act| mended(scene, (&base, &baselines), &Wish::to(act))).collect()
}

fn mended(
    scene: &Scene,
    (base, baselines): (&Base<'_>, &[Baseline<'_>]),
    wish: &Wish<'_>,
) -> Result<Remedies, ActorError> {
    let act = &wish.act;
    let answer = ask(&base.stage, act)?;
    let standing = wish.standing(scene, &base.stage);
    let mut hint = hint::hint(&answer);
    let reached = wish.reached(scene, &base.stage, &answer);
    let start = Tried {
        steps: Vec::new(),
        scene: Arc::new(scene.clone()),
        answer: answer.clone(),
        reached,
        notes: Vec::new(),
    };
    let unknown = standing.as_ref().is_some_and(|one| one.open.is_some());
    if reached || unknown || matches!(answer.outcome, Outcome::NeverRuns(_)) {
        return Ok(Remedies { answer, standing, remedies: Vec::new(), hint });
    }
    let found = minimal(search(start, base, wish, &mut hint));
    if found.is_empty() && standing.as_ref().is_some_and(|one| one.wider.is_some()) {
        hint = Some("the program needs a copy of its own: one that an init container makes on a scratch volume, owned by its user".to_owned());
    } else if found.is_empty() && on_api_volume(&base.stage, act) {
        hint = Some("the kubelet writes that volume and mounts it read-only: copy the file to a volume of the pod's own".to_owned());
    }
    if found.is_empty() && hint.is_none() {
        hint = Some(
            "no few changes of ids, owners, modes or mounts are enough: see `why` for each check".to_owned(),
        );
    }
    let mut remedies: Vec<Remedy> =
        found.into_iter().filter_map(|one| cost::measured(scene, (base, baselines), act, one)).collect();
    remedies.sort_by(|a, b| a.cost.total_cmp(&b.cost));
    remedies.truncate(MOST_TOLD);
    Ok(Remedies { answer, standing, remedies, hint })
}

/// Whether that is what was wished for.
fn goal(answer: &Answer) -> bool {
    answer.outcome == Outcome::Allowed && answer.holds() != Some(false)
}

/// Every combination that leads to the goal, the short ones first; `hint` is filled where nothing helps against a check
/// behind the first.
fn search(start: Tried, base: &Base<'_>, wish: &Wish<'_>, hint: &mut Option<String>) -> Vec<Tried> {
    let mut found: Vec<Tried> = Vec::new();
    let mut seen: BTreeSet<Vec<String>> = BTreeSet::new();
    let mut frontier = vec![start];
    let mut tried = 0;
    while !frontier.is_empty() && tried < MOST_TRIED {
        let mut next = Vec::new();
        for from in &frontier {
            let Ok(now) = from.stage(base) else { continue };
            for candidate in candidate::candidates(&from.scene, &now, wish, &from.answer) {
                let steps = joined(&from.steps, &candidate);
                let mut key: Vec<String> = steps.iter().map(|step| step.change.to_string()).collect();
                key.sort();
                if steps.len() > DEEPEST || tried >= MOST_TRIED || !seen.insert(key) {
                    continue;
                }
                tried += 1;
                let Some(one) = attempt(base, (from, &now), &candidate, steps, wish) else { continue };
                // What is met behind the first check may be what nothing gets past.
                if hint.is_none() {
                    *hint = hint::hint(&one.answer).map(|next| format!("once that is mended, {next}"));
                }
                if one.reached {
                    found.push(one);
                } else if wish.moves_on(from, &one) {
                    next.push(one);
                }
            }
        }
        frontier = next;
    }
    found
}

/// The earlier changes and then those of `candidate`.
fn joined(earlier: &[RemedyStep], candidate: &candidate::Candidate) -> Vec<RemedyStep> {
    // A later ACL says what an earlier one of the same file said, and more.
    let replaced = |step: &RemedyStep| candidate.changes.iter().any(|later| replaces(later, &step.change));
    let mut steps: Vec<RemedyStep> = earlier.iter().filter(|step| !replaced(step)).cloned().collect();
    let added = candidate.changes.iter().cloned();
    steps.extend(added.map(|change| RemedyStep { change, side: candidate.side, place: None }));
    steps
}

fn replaces(later: &Change, earlier: &Change) -> bool {
    let (Change::Files(later) | Change::Image(later), Change::Files(earlier) | Change::Image(earlier)) =
        (later, earlier)
    else {
        return false;
    };
    matches!((&later.verb, &earlier.verb), (Verb::SetsAcl(_), Verb::SetsAcl(_))) && later.path == earlier.path
}

/// Makes the changes of `candidate` after those of `from`, together `steps`; `None` where they cannot be made.
fn attempt(
    base: &Base<'_>,
    (from, now): (&Tried, &Stage),
    candidate: &candidate::Candidate,
    steps: Vec<RemedyStep>,
    wish: &Wish<'_>,
) -> Option<Tried> {
    let changes = Changes::new(candidate.changes.clone());
    if candidate.changes.iter().all(|change| matches!(change, Change::Files(_))) {
        let mut now = now.clone();
        changes.apply_to_files(&mut now).ok()?;
        let answer = ask(&now, &wish.act).ok()?;
        let reached = wish.reached(&from.scene, &now, &answer);
        return Some(Tried { steps, scene: from.scene.clone(), answer, reached, notes: from.notes.clone() });
    }
    let mut scene = Scene::clone(&from.scene);
    let made = changes.apply_to_scene(&mut scene).ok()?;
    let notes = [from.notes.as_slice(), &made].concat();
    let tried = Tried { steps, scene: Arc::new(scene), answer: from.answer.clone(), reached: false, notes };
    // Files that were changed before are changed again on the new stage.
    let now = tried.stage(base).ok()?;
    let answer = ask(&now, &wish.act).ok()?;
    let reached = wish.reached(&tried.scene, &now, &answer);
    Some(Tried { answer, reached, ..tried })
}

/// Whether the path is on a volume that the kubelet writes.
fn on_api_volume(base: &Stage, act: &Act) -> bool {
    let Ok(actor) = base.actor(&act.actor) else { return false };
    match look(&base.storage, &actor.mounts, &act.path, Follow::Links) {
        Ok(Sight::There(place)) => actor.mounts.get(place.mount).is_written_by_kubelet(),
        Ok(Sight::Missing | Sight::Unlisted) | Err(_) => false,
    }
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

/// Without those that do all that another one does, and more.
fn minimal(found: Vec<Tried>) -> Vec<Tried> {
    let keys: Vec<BTreeSet<String>> =
        found.iter().map(|one| one.steps.iter().map(|step| step.change.to_string()).collect()).collect();
    let mut keep = found.into_iter().enumerate().filter(|(at, _)| {
        !keys.iter().enumerate().any(|(other, smaller)| {
            other != *at && smaller.is_subset(&keys[*at]) && (smaller.len() < keys[*at].len() || other < *at)
        })
    });
    keep.by_ref().map(|(_, one)| one).collect()
}
