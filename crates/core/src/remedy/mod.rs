//! The smallest changes that turn a denied act into an allowed one.
//!
//! Nothing is trusted because it looks right: every change is made on the model and the act is asked again, the walk
//! and everything before it included. What stops the act then is mended in turn, a few changes deep at most. What is
//! left is ranked by what else it opens.

mod attempt;
mod besides;
mod built;
mod candidate;
mod chain;
mod hint;
mod in_place;
mod made;
mod marks;
mod measured;
mod rank;
mod search;
mod situation;
mod together;
mod tree;
mod usual;
mod wish;

use std::sync::Arc;

use mivask_model::act::Act;
use mivask_model::usual::Usual;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::settle::Outcome;
use mivask_rules::walk::Follow;
use mivask_stage::actor_names::ActorError;
use mivask_stage::scene::Scene;
use mivask_stage::stage::Stage;

use crate::change::{Change, ChangeError, Changes};
use crate::exposure::Limit;
use crate::question::contrast::Baseline;
use crate::question::{Answer, OutcomeChange, ask};
use search::{minimal, search};
use situation::{Base, staged};
use wish::Wish;

/// Remedies that are given at most; the rest is wider still.
const MOST_TOLD: usize = 12;

/// Where a remedy is made.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Side {
    /// In the description: who the process is.
    Process,
    /// In the description: what is mounted, and how.
    Mount,
    /// On the host: its security policy, and the labels it gives.
    Host,
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
            Self::Host => "host",
            Self::Disk => "disk",
            Self::Image => "image",
        }
    }
}

pub use crate::place::ChangedPlace;
pub use built::{image_wanted, is_built};
pub use in_place::{InPlace, Stored};
pub use made::{FORM as MADE_FORM, Made, MadeError};
pub use rank::{Mark, Rank, Rung};
pub use search::MOST_TRIED;
pub use situation::Situation;
pub use together::{MOST_ACTS, MOST_REFUSED, Together, together};
pub use tree::{TreeError, TreeRemedies, over_tree};
pub use wish::Standing;

/// One change of a remedy.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct RemedyStep {
    /// What is changed.
    pub change: Change,
    /// Where it is made.
    pub side: Side,
    /// How it is made in the real world; `None` where it changes a description, or where no one can.
    pub there: Option<InPlace>,
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
    /// Expectations of the scene, as they were written, that hold now and do not afterwards.
    pub breaks: Vec<String>,
    /// What speaks against it, and so its place among the others.
    pub rank: Rank,
}

/// What can be done about one act.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Remedies {
    /// How the act ends now; of a limit, how a look at its path does.
    pub answer: Answer,
    /// The limit that is to hold, where that is what is wished for.
    pub standing: Option<Standing>,
    /// What helps, the best first.
    pub remedies: Vec<Remedy>,
    /// What to know where nothing narrow helps.
    pub hint: Option<String>,
    /// Whether combinations were left out, since there are too many.
    pub bounded: bool,
    /// The cause in a sentence, where it is none that a change of the scene mends, or where none is needed.
    pub besides: Option<String>,
    /// What the remedies take to be as usual, where they help only then.
    pub as_usual: Vec<Usual>,
}

impl Remedy {
    /// How many pairs of actor and path are no longer allowed, for one question or another.
    #[must_use]
    pub fn closes(&self) -> usize {
        self.closed.iter().map(|row| row.paths.len()).sum()
    }

    /// How many pairs of actor and path it opens for one question or another.
    #[must_use]
    pub fn opens(&self) -> usize {
        self.opened.iter().map(|row| row.paths.len()).sum()
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
    /// The same place to begin at.
    fn again(&self) -> Self {
        Self {
            steps: self.steps.clone(),
            scene: self.scene.clone(),
            answer: self.answer.clone(),
            reached: self.reached,
            notes: self.notes.clone(),
        }
    }

    /// The stage after the changes, made again on `base` rather than kept: of a large scene each is large.
    ///
    /// # Errors
    /// Files cannot be changed so.
    fn stage(&self, base: &Base<'_>) -> Result<Stage, ChangeError> {
        let described = self.steps.iter().any(|step| !matches!(step.change, Change::Files(_)));
        let mut now =
            if described { staged(&self.scene, base.situation.changes) } else { base.stage.clone() };
        let steps = self.steps.iter().map(|step| step.change.clone()).collect();
        Changes::with_globs(steps, base.situation.changes.globs()).apply_to_files(&mut now)?;
        Ok(now)
    }
}

/// Searches for what lets `act` succeed; with an expectation of what it leaves, for what fulfils that.
///
/// # Errors
/// The act names no actor, or several.
pub fn remedies(situation: &Situation<'_>, act: &Act) -> Result<Remedies, ActorError> {
    let base = Base::new(situation);
    let answer = ask(&base.stage, act)?;
    let told = mended((&base, &base.baselines()), &Wish::to(act), answer);
    Ok(usual::instead(situation, act, told))
}

/// Searches for what lets the next file that an actor makes be used by another, and lasts.
///
/// # Errors
/// It names nobody there is, or two who share nothing, or nothing is made there.
pub fn lasting(situation: &Situation<'_>, made: &Made) -> Result<Remedies, MadeError> {
    let base = Base::new(situation);
    let wish = Wish::of_made(&base.stage, made)?;
    let answer = made.ask(&base.stage, &wish.act)?;
    Ok(mended((&base, &base.baselines()), &wish, answer))
}

/// Searches for what makes a path as narrow as `limit` asks, for whoever it names or the first who sees it wider.
///
/// # Errors
/// The limit names no actor, or several.
pub fn narrowings(situation: &Situation<'_>, limit: &Limit) -> Result<Remedies, ActorError> {
    let base = Base::new(situation);
    let wish = Wish::within(&base.stage, limit)?;
    let answer = ask(&base.stage, &wish.act)?;
    Ok(mended((&base, &base.baselines()), &wish, answer))
}

/// The same for each of `acts`, whose scene is prepared and swept once for all.
#[must_use]
pub fn remedies_of_each(situation: &Situation<'_>, acts: &[Act]) -> Vec<Result<Remedies, ActorError>> {
    let base = Base::new(situation);
    let baselines = base.baselines();
    let of = |act: &Act| {
        let told = mended((&base, &baselines), &Wish::to(act), ask(&base.stage, act)?);
        Ok(usual::instead(situation, act, told))
    };
    acts.iter().map(of).collect()
}

fn mended((base, baselines): (&Base<'_>, &[Baseline<'_>]), wish: &Wish<'_>, answer: Answer) -> Remedies {
    let act = &wish.act;
    let scene = base.situation.scene;
    let standing = wish.standing(scene, &base.stage);
    let besides = besides::besides(&base.stage, wish, &answer);
    // The cause is told already, and what the check would have one do does not reach it.
    let mut hint = hint::hint(&answer).filter(|_| besides.is_none());
    let reached = wish.reached(scene, &base.stage, &answer);
    let start = Tried {
        steps: Vec::new(),
        scene: Arc::new(scene.clone()),
        answer: answer.clone(),
        reached,
        notes: Vec::new(),
    };
    let unknown = standing.as_ref().is_some_and(|one| one.open.is_some());
    if reached || unknown {
        return Remedies {
            answer,
            standing,
            remedies: Vec::new(),
            hint,
            bounded: false,
            besides,
            as_usual: Vec::new(),
        };
    }
    let (found, bounded) = search(start, base, wish, &mut hint);
    let found = minimal(found);
    if found.is_empty() && standing.as_ref().is_some_and(|one| one.wider.is_some()) {
        hint = Some("the program needs a copy of its own: one that an init container makes on a scratch volume, owned by its user".to_owned());
    } else if found.is_empty() && on_api_volume(&base.stage, act) {
        hint = Some("the kubelet writes that volume and mounts it read-only: copy the file to a volume of the pod's own".to_owned());
    }
    if besides.is_some() {
        hint = None;
    } else if found.is_empty() && hint.is_none() {
        hint = Some(
            "no few changes of ids, owners, modes or mounts are enough: see `why` for each check".to_owned(),
        );
    }
    let mut remedies: Vec<Remedy> = found
        .into_iter()
        .filter_map(|one| {
            measured::measured((base, baselines), &measured::Goals::Acts(std::slice::from_ref(act)), one)
        })
        .collect();
    remedies.sort_by(|a, b| a.rank.cmp(&b.rank));
    remedies.truncate(MOST_TOLD);
    Remedies { answer, standing, remedies, hint, bounded, besides, as_usual: Vec::new() }
}

/// Whether that is what was wished for.
fn goal(answer: &Answer) -> bool {
    answer.outcome == Outcome::Allowed && answer.holds() != Some(false)
}

/// Whether the path is on a volume that the kubelet writes.
fn on_api_volume(base: &Stage, act: &Act) -> bool {
    let Ok(actor) = base.actor(&act.actor) else { return false };
    match look(&base.storage, &actor.mounts, &act.path, Follow::Links) {
        Ok(Sight::There(place)) => actor.mounts.get(place.mount).is_written_by_kubelet(),
        Ok(Sight::Missing | Sight::Unlisted) | Err(_) => false,
    }
}
