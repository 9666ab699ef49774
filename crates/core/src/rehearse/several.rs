//! One line about many files: done one after the other, as the actor, as a tool would.

use mivask_model::act::{Act, Verb};
use mivask_model::glob::{Globs, Matcher, fixed_part, is_pattern};
use mivask_model::mode::FileKind;
use mivask_model::mount::MountTable;
use mivask_rules::settle::Outcome;
use mivask_stage::actor_names::ActorError;
use mivask_stage::stage::Stage;

use crate::carry::{Carried, perform};
use crate::question::{Answer, ask};
use crate::recursion::{from_below, joined, kind_at, names_in, on_path, verb_for, whole};

/// How many refusals are kept.
const MOST_KEPT: usize = 5;

/// What became of an act on many paths.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Several {
    /// The act; its path is a pattern.
    pub act: Act,
    /// How many were allowed, and are carried out.
    pub done: usize,
    /// How many were refused, directories that could not be listed among them.
    pub refused: usize,
    /// How many depend on missing facts, and are not carried out.
    pub open: usize,
    /// How many are not as it was expected.
    pub unheld: usize,
    /// The first of those that were refused or depend on something.
    pub first: Vec<Answer>,
    /// The acts that changed something.
    pub(crate) carried: Vec<Act>,
}

impl Several {
    /// Whether what was expected holds for every one of them; `None` where nothing was expected.
    #[must_use]
    pub fn holds(&self) -> Option<bool> {
        self.act.expectation.map(|_| self.unheld == 0)
    }
}

/// Whether a line is about many files: its path is a pattern, and nothing has this very name.
pub(super) fn is_meant(stage: &Stage, act: &Act) -> bool {
    let Ok(actor) = stage.actor(&act.actor) else { return false };
    is_pattern(&act.path) && kind_at(&stage.storage, &actor.mounts, &act.path).is_none()
}

/// What is still to be done.
enum Task {
    /// The act on this path, and then on what is in it.
    Visit(Vec<u8>),
    /// The act on this path alone.
    Act(Vec<u8>),
    /// What is in this directory.
    Enter(Vec<u8>),
}

/// Does `act` to everything it means, in order.
///
/// # Errors
/// It names no actor, or the path is not a pattern.
pub(super) fn perform_all(stage: &mut Stage, act: &Act, globs: &dyn Globs) -> Result<Several, SeveralError> {
    let matches = globs.matcher(&act.path).map_err(|error| SeveralError::Pattern(error.to_string()))?;
    let table = stage.actor(&act.actor)?.mounts.clone();
    let several = Several {
        act: act.clone(),
        done: 0,
        refused: 0,
        open: 0,
        unheld: 0,
        first: Vec::new(),
        carried: Vec::new(),
    };
    let mut sweeping = Sweeping { stage, table, several };
    match whole(&act.path) {
        Some(base) => sweeping.tree(base.to_vec())?,
        None => {
            for path in sweeping.matching(&matches)? {
                sweeping.one(&path)?;
            }
        }
    }
    let Several { done, refused, open, .. } = sweeping.several;
    if done + refused + open == 0 {
        return Err(SeveralError::Pattern("the pattern matches nothing that is listed".to_owned()));
    }
    Ok(sweeping.several)
}

/// Why a line about many files cannot be rehearsed.
pub(super) enum SeveralError {
    /// Nobody does it.
    Actor(ActorError),
    /// What is wrong with the pattern.
    Pattern(String),
}

impl From<ActorError> for SeveralError {
    fn from(error: ActorError) -> Self {
        Self::Actor(error)
    }
}

struct Sweeping<'a> {
    stage: &'a mut Stage,
    table: MountTable,
    several: Several,
}

impl Sweeping<'_> {
    fn kind(&self, path: &[u8]) -> Option<FileKind> {
        kind_at(&self.stage.storage, &self.table, path)
    }

    /// A directory with everything in it. Tools keep the rows of a deep tree on no stack of their own either.
    fn tree(&mut self, base: Vec<u8>) -> Result<(), ActorError> {
        let below = from_below(&self.several.act.verb);
        let link = self.kind(&base) == Some(FileKind::Link);
        let mut tasks = vec![Task::Visit(base.clone())];
        while let Some(task) = tasks.pop() {
            match task {
                Task::Act(path) => self.one(&path)?,
                Task::Visit(path) => {
                    // A link that is named itself is followed by what cannot be done to links.
                    let kind = self.kind(&path);
                    let followed =
                        link && path == base && verb_for(&self.several.act.verb, FileKind::Link).is_none();
                    if followed {
                        self.done(on_path(&self.several.act, self.several.act.verb.clone(), &path))?;
                        tasks.push(Task::Enter(path));
                    } else if kind != Some(FileKind::Directory) {
                        self.one(&path)?;
                    } else if below {
                        tasks.extend([Task::Act(path.clone()), Task::Enter(path)]);
                    } else {
                        self.one(&path)?;
                        tasks.push(Task::Enter(path));
                    }
                }
                Task::Enter(path) => {
                    let names = if self.lists(&path)? {
                        names_in(&self.stage.storage, &self.table, &path)
                    } else {
                        Vec::new()
                    };
                    tasks.extend(names.iter().rev().map(|name| Task::Visit(joined(&path, name))));
                }
            }
        }
        Ok(())
    }

    /// What a shell or a search finds for the actor before anything is done.
    fn matching(&mut self, matches: &Matcher) -> Result<Vec<Vec<u8>>, ActorError> {
        let mut found = Vec::new();
        let mut pending = vec![fixed_part(&self.several.act.path).to_vec()];
        let deep = self.several.act.path.windows(2).any(|pair| pair == b"**");
        let depth = |path: &[u8]| path.iter().filter(|byte| **byte == b'/').count();
        let most = if deep { usize::MAX } else { depth(&self.several.act.path) };
        while let Some(directory) = pending.pop() {
            if !self.lists(&directory)? {
                continue;
            }
            for name in names_in(&self.stage.storage, &self.table, &directory) {
                let path = joined(&directory, &name);
                if matches(&path) {
                    found.push(path.clone());
                }
                if self.kind(&path) == Some(FileKind::Directory) && depth(&path) < most {
                    pending.push(path);
                }
            }
        }
        found.sort();
        if from_below(&self.several.act.verb) {
            found.reverse();
        }
        Ok(found)
    }

    /// Whether the actor can list a directory; that it cannot is one more refusal.
    fn lists(&mut self, directory: &[u8]) -> Result<bool, ActorError> {
        let answer = ask(self.stage, &on_path(&self.several.act, Verb::Lists, directory))?;
        let listed = answer.outcome == Outcome::Allowed;
        if !listed {
            self.count(answer, &Carried::Nothing);
        }
        Ok(listed)
    }

    fn one(&mut self, path: &[u8]) -> Result<(), ActorError> {
        let Some(kind) = self.kind(path) else { return Ok(()) };
        match verb_for(&self.several.act.verb, kind) {
            Some(verb) => self.done(on_path(&self.several.act, verb, path)),
            None => Ok(()),
        }
    }

    fn done(&mut self, act: Act) -> Result<(), ActorError> {
        let performed = perform(self.stage, &act)?;
        self.count(performed.answer, &performed.carried);
        Ok(())
    }

    fn count(&mut self, answer: Answer, carried: &Carried) {
        let several = &mut self.several;
        several.unheld += usize::from(answer.holds() == Some(false));
        let bad = match (&answer.outcome, carried) {
            (Outcome::Allowed, Carried::Open(_)) | (Outcome::Depends, _) => &mut several.open,
            (Outcome::Allowed, Carried::Nothing | Carried::Out) => {
                several.done += 1;
                if *carried == Carried::Out {
                    several.carried.push(answer.act);
                }
                return;
            }
            (Outcome::Denied(_) | Outcome::NeverRuns(_), _) => &mut several.refused,
        };
        *bad += 1;
        if several.first.len() < MOST_KEPT {
            several.first.push(answer);
        }
    }
}
