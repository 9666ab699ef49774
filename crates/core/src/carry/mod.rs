//! Carrying an act out on the stage, so that later acts see what it changed.
//!
//! What an act leaves is what [`ask`] says it leaves; nothing is decided a second time here. An act whose outcome
//! depends on a missing fact is not carried out, and one that is allowed whatever the facts are, but leaves different
//! things, leaves an inode of unknown owner and mode.

mod disks;
mod edit;

use std::sync::Arc;

use mivask_model::act::{Act, Verb};
use mivask_model::ids::UserNamespace;
use mivask_model::mount::MountTable;
use mivask_model::outcome::{Effect, Errno};
use mivask_rules::decide::decide_written;
use mivask_rules::lookup::{End, Sight, look, walk};
use mivask_rules::settle::{Dependence, Outcome, settle};
use mivask_rules::view::Place;
use mivask_rules::walk::Follow;
use mivask_stage::actor_names::ActorError;
use mivask_stage::stage::{Actor, Stage};

use crate::question::{Answer, ask, explored};
use disks::Disks;
use edit::Edit;

/// Whether an act changed the stage.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Carried {
    /// It only looks, or it is not allowed.
    Nothing,
    /// The stage is as the act leaves it.
    Out,
    /// No one knows what it changes, so nothing was changed: why.
    Open(Arc<str>),
}

/// An act that was tried, and what became of the stage.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Performed {
    /// How it ends.
    pub answer: Answer,
    /// Whether the stage is different now.
    pub carried: Carried,
}

/// Lets the actor do it, with all that follows for later acts.
///
/// # Errors
/// The act names no actor, or several.
pub fn perform(stage: &mut Stage, act: &Act) -> Result<Performed, ActorError> {
    let answer = ask(stage, act)?;
    let carried = match answer.outcome {
        Outcome::Allowed if act.verb.only_looks() && !act.verb.writes() => Carried::Nothing,
        Outcome::Allowed => {
            let actor = stage.actor(&act.actor)?;
            let written = written(stage, actor, act);
            let namespace = actor.credentials.first().map(|who| who.namespace.clone());
            // An actor without credentials is never allowed anything, so this only keeps the type whole.
            let namespace = namespace.unwrap_or_else(|| Arc::new(UserNamespace::initial()));
            let table = actor.mounts.clone();
            match written {
                Some((Outcome::Allowed, effect, _)) => carry_out(stage, &table, &namespace, act, &effect),
                // What is not listed has nothing to lose that anyone knows of.
                Some(_) => Carried::Nothing,
                None => carry_out(stage, &table, &namespace, act, &answer.effect),
            }
        }
        Outcome::Denied(_) | Outcome::NeverRuns(_) => Carried::Nothing,
        Outcome::Depends => Carried::Open("its outcome depends on a missing fact".into()),
    };
    Ok(Performed { answer, carried })
}

/// What writing to the file leaves of it; `None` where the act writes nothing, or to a file that it makes.
fn written(stage: &Stage, actor: &Actor, act: &Act) -> Option<(Outcome, Effect, Vec<Dependence>)> {
    if !act.verb.writes() {
        return None;
    }
    let sight = look(&stage.storage, &actor.mounts, &act.path, Follow::Links);
    let there = matches!(sight, Ok(Sight::There(Place { inode: Some(_), .. })));
    if act.verb == Verb::Extends && !there {
        return None;
    }
    Some(settle(&explored(stage, actor, |view, w| decide_written(view, &act.path, w))))
}

/// Changes the stage as `effect` says, whose ACL has ids of `namespace`.
pub(crate) fn carry_out(
    stage: &mut Stage,
    table: &MountTable,
    namespace: &UserNamespace,
    act: &Act,
    effect: &Effect,
) -> Carried {
    match edits(stage, (table, namespace), act, effect) {
        Ok((place, edit)) => {
            // One disk may be mounted by several workloads, each with its own copy of the tree: all of them see the
            // change.
            let disks = Disks::behind(stage, table, place);
            match disks.apply(stage, |tree| edit.apply(tree)) {
                Ok(()) => Carried::Out,
                Err(error) => Carried::Open(error.to_string().into()),
            }
        }
        Err(reason) => Carried::Open(reason),
    }
}

/// What is changed, and where.
fn edits(
    stage: &Stage,
    (table, namespace): (&MountTable, &UserNamespace),
    act: &Act,
    effect: &Effect,
) -> Result<(Place, Edit), Arc<str>> {
    let follow = if follows(&act.verb) { Follow::Links } else { Follow::AllButLast };
    let end = walk(&stage.storage, table, &act.path, follow).map_err(lost)?;
    let second = act.verb.second_path().map(|path| walk(&stage.storage, table, path, Follow::AllButLast));
    let second = second.transpose().map_err(lost)?;
    let mut edit =
        Edit::of((table, namespace), act, effect, &end, second.as_ref()).ok_or_else(|| unlisted(&end))?;
    if let Edit::Add(_, _, entry, _) = &mut edit {
        // Nobody may know its label, but it is none that an engine gave.
        entry.extended.labelled_since = stage.actors.iter().any(|actor| actor.confined.is_some());
    }
    Ok((edit.within(&end), edit))
}

/// Whether the call follows a link at the end of the path.
const fn follows(verb: &Verb) -> bool {
    !matches!(
        verb,
        Verb::Creates(_)
            | Verb::MakesDirectory(_)
            | Verb::MakesFifo(_)
            | Verb::MakesNode(..)
            | Verb::Points(_)
            | Verb::Links(_)
            | Verb::Renames(_)
            | Verb::RenamesNew(_)
            | Verb::Exchanges(_)
            | Verb::Deletes
            | Verb::RemovesDirectory
            | Verb::SetsLinkOwner(_)
            | Verb::SetsLinkGroup(_)
    )
}

fn lost(errno: Errno) -> Arc<str> {
    format!("its place is unknown: the walk ends with {errno}").into()
}

fn unlisted(end: &End) -> Arc<str> {
    match end.sight {
        Sight::Unlisted | Sight::There(_) => "what is there is not listed".into(),
        Sight::Missing => "the directory it is in is not listed".into(),
    }
}
