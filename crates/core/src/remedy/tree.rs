//! A whole tree: what lets an act succeed on everything that a pattern matches, and how much of it each change reaches.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use mivask_model::act::{Act, Owner, Verb};
use mivask_model::glob::PatternError;
use mivask_model::ids::{InsideGid, InsideUid};
use mivask_stage::actor_names::ActorError;
use mivask_stage::stage::{Actor, Stage};

use super::measured::Goals;
use super::search::search;
use super::situation::{Base, Situation};
use super::wish::Wish;
use super::{Remedy, RemedyStep, Side, Tried, measured};
use crate::change::{Change, Process};
use crate::expect::endings;
use crate::question::{ask, facts_at};
use crate::recursion::whole;

/// Kinds of refused files that remedies are looked for: by owner, group and mode, the most frequent first.
const MOST_KINDS: usize = 4;
/// Remedies that reach only a part and are told.
const MOST_PARTS: usize = 3;

/// Why nothing is looked for.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum TreeError {
    /// It names no actor, or several.
    #[error(transparent)]
    Actor(#[from] ActorError),
    /// It is no pattern.
    #[error("{0}")]
    Pattern(#[from] PatternError),
}

/// What can be done about one act on many paths.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct TreeRemedies {
    /// The act, with the pattern for its path.
    pub act: Act,
    /// Paths that it matches and that it makes sense for.
    pub paths: usize,
    /// Those that succeed now.
    pub allowed: usize,
    /// Those that depend on a missing fact.
    pub open: usize,
    /// What helps, with how many paths succeed then: what reaches all of them comes first, each the best first.
    pub remedies: Vec<(Remedy, usize)>,
}

/// Searches for what lets `act`, whose path is a pattern, succeed on all that it matches.
///
/// # Errors
/// The act names no actor, or several; its path is no pattern.
pub fn over_tree(situation: &Situation<'_>, act: &Act) -> Result<TreeRemedies, TreeError> {
    let base = Base::new(situation);
    let actor = base.stage.actor(&act.actor)?;
    let globs = situation.changes.globs();
    let reach = |stage: &Stage, actor: &Actor| endings(stage, actor, (&act.verb, &act.path), &*globs);
    let now = reach(&base.stage, actor)?;
    let refused: BTreeSet<&[u8]> =
        now.iter().filter(|(_, ends)| **ends == Some(false)).map(|(path, _)| path.as_slice()).collect();
    let allowed = now.values().filter(|ends| **ends == Some(true)).count();
    let mut found = TreeRemedies {
        act: act.clone(),
        paths: now.len(),
        allowed,
        open: now.values().filter(|ends| ends.is_none()).count(),
        remedies: Vec::new(),
    };
    if refused.is_empty() {
        return Ok(found);
    }
    let baselines = base.baselines();
    let all: BTreeSet<Vec<u8>> = now.keys().cloned().collect();
    let mut best: Vec<(Remedy, usize)> = Vec::new();
    for steps in candidates(&base, actor, act, &refused) {
        let Some(tried) = made(&base, act, steps) else { continue };
        let Ok(then) = tried.stage(&base) else { continue };
        let Ok(actor) = then.actor(&act.actor) else { continue };
        let reached = reach(&then, actor)?;
        let count =
            all.iter().filter(|path| reached.get(*path).is_some_and(|ends| *ends == Some(true))).count();
        if count <= allowed {
            continue;
        }
        let goals = Goals::Tree(act, &all);
        best.push((measured::measured_on((&base, &baselines), &goals, tried, &then), count));
    }
    let most = found.paths;
    best.sort_by(|(a, reached_a), (b, reached_b)| {
        (*reached_a < most).cmp(&(*reached_b < most)).then_with(|| a.rank.cmp(&b.rank))
    });
    let mut parts = 0;
    best.retain(|(_, reached)| {
        parts += usize::from(*reached < most);
        *reached == most || parts <= MOST_PARTS
    });
    found.remedies = needed(best);
    Ok(found)
}

/// Without those that do all that another one does, and more, and reach no more.
fn needed(found: Vec<(Remedy, usize)>) -> Vec<(Remedy, usize)> {
    let changes = |remedy: &Remedy| -> BTreeSet<String> {
        remedy.steps.iter().map(|step| step.change.to_string()).collect()
    };
    let keys: Vec<(BTreeSet<String>, usize)> =
        found.iter().map(|(remedy, reached)| (changes(remedy), *reached)).collect();
    let is_needed = |at: usize| {
        !keys.iter().enumerate().any(|(other, (smaller, reached))| {
            other != at
                && smaller.is_subset(&keys[at].0)
                && smaller.len() < keys[at].0.len()
                && *reached >= keys[at].1
        })
    };
    found.into_iter().enumerate().filter(|(at, _)| is_needed(*at)).map(|(_, one)| one).collect()
}

/// `steps` made on the scene; `None` where they cannot be.
fn made(base: &Base<'_>, act: &Act, steps: Vec<RemedyStep>) -> Option<Tried> {
    let mut scene = base.situation.scene.clone();
    let described =
        steps.iter().map(|step| &step.change).filter(|change| !matches!(change, Change::Files(_))).cloned();
    let changes = crate::change::Changes::new(described.collect());
    let notes = changes.apply_to_scene(&mut scene).ok()?;
    let answer = ask(&base.stage, act).ok()?;
    Some(Tried { steps, scene: Arc::new(scene), answer, reached: true, notes })
}

/// What may help all of it: what helps one of each kind and is no change of that one file, these together, and the whole tree given away.
fn candidates(base: &Base<'_>, actor: &Actor, act: &Act, refused: &BTreeSet<&[u8]>) -> Vec<Vec<RemedyStep>> {
    let mut all: Vec<Vec<RemedyStep>> = Vec::new();
    let mut add = |steps: Vec<RemedyStep>| {
        let key = |steps: &[RemedyStep]| -> BTreeSet<String> {
            steps.iter().map(|step| step.change.to_string()).collect()
        };
        if !steps.is_empty() && !all.iter().any(|known| key(known) == key(&steps)) {
            all.push(steps);
        }
    };
    let mut groups: Vec<RemedyStep> = Vec::new();
    for path in kinds(&base.stage, actor, refused) {
        let one = Act { path: path.to_vec(), ..act.clone() };
        let Ok(answer) = ask(&base.stage, &one) else { continue };
        let scene = Arc::new(base.situation.scene.clone());
        let start = Tried { steps: Vec::new(), scene, answer, reached: false, notes: Vec::new() };
        let (found, _) = search(start, base, &Wish::of_many(&one), &mut None);
        for tried in found.into_iter().filter(|tried| tried.steps.iter().all(is_of_the_whole)) {
            groups.extend(tried.steps.iter().filter(|step| is_membership(&step.change)).cloned());
            // Several that one file takes are tried as the memberships together.
            if tried.steps.len() == 1 {
                add(tried.steps);
            }
        }
    }
    let mut seen = BTreeSet::new();
    groups.retain(|step| seen.insert(step.change.to_string()));
    add(groups);
    // Other patterns have no one command.
    let away = if whole(&act.path).is_some() { given_away(actor, &act.verb) } else { Vec::new() };
    for verbs in away {
        let step = |verb| RemedyStep {
            change: Change::Files(Act { verb, ..act.clone() }),
            side: Side::Disk,
            there: None,
        };
        add(verbs.into_iter().map(step).collect());
    }
    all
}

/// One refused path of each frequent kind: by owner, group and mode.
fn kinds<'p>(stage: &Stage, actor: &Actor, refused: &BTreeSet<&'p [u8]>) -> Vec<&'p [u8]> {
    let mut kinds: BTreeMap<String, (usize, &'p [u8])> = BTreeMap::new();
    for path in refused {
        let facts = facts_at(stage, actor, path);
        let key = format!("{:?}", facts.map(|facts| (facts.kind, facts.uid, facts.gid, facts.mode)));
        kinds.entry(key).or_insert((0, path)).0 += 1;
    }
    let mut kinds: Vec<(usize, &[u8])> = kinds.into_values().collect();
    kinds.sort_by_key(|(count, _)| std::cmp::Reverse(*count));
    kinds.into_iter().take(MOST_KINDS).map(|(_, path)| path).collect()
}

/// Whether a change is about the process or the description, and shows no less of the volume.
const fn is_of_the_whole(step: &RemedyStep) -> bool {
    match &step.change {
        Change::Process(_, Process::Only(_) | Process::Scratch(_)) | Change::Files(_) | Change::Image(_) => {
            false
        }
        Change::Process(..)
        | Change::FilesystemGroup(_)
        | Change::Joins(_)
        | Change::Security(_)
        | Change::Accounts(..) => true,
    }
}

const fn is_membership(change: &Change) -> bool {
    matches!(change, Change::Process(_, Process::Joins(_)) | Change::Joins(_))
}

/// The whole tree becomes the user's, or its group's with the bits that the act takes.
fn given_away(actor: &Actor, verb: &Verb) -> Vec<Vec<Verb>> {
    let Some(who) = actor.credentials.first() else { return Vec::new() };
    let uid = who.inside_uid().and_then(|uid| uid.id()).map(InsideUid::raw);
    let gid = who.inside_gid().and_then(|gid| gid.id()).map(InsideGid::raw);
    let owned = uid.map(|uid| vec![Verb::SetsOwner(Owner { uid: Some(uid), gid: None })]);
    let bits = if matches!(verb, Verb::Reads | Verb::Lists | Verb::Enters | Verb::MayRead) {
        "g+rX"
    } else {
        "g+rwX"
    };
    let grouped = gid.filter(|gid| *gid != 0).zip(bits.parse().ok());
    let grouped = grouped.map(|(gid, bits)| vec![Verb::SetsGroup(gid), Verb::SetsMode(bits)]);
    owned.into_iter().chain(grouped).collect()
}
