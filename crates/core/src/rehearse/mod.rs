//! Acts in order, each seeing what the earlier ones changed.

mod labels;
mod several;

use std::sync::Arc;

use mivask_model::act::{Act, Subject};
use mivask_model::glob::Globs;
use mivask_model::listed::listed;
use mivask_model::mount::MountOrigin;
use mivask_model::mount_kind::MountKind;
use mivask_stage::actor_names::ActorError;
use mivask_stage::prepare::{self, stage_with_host};
use mivask_stage::runtime::Runtime;
use mivask_stage::scene::Scene;
use mivask_stage::stage::{Actor, Stage};

use crate::carry::{Carried, perform};
use crate::change::{Change, ChangeError, Changes, Process, Sentence};
use crate::names::AccountNames;
use crate::question::{Answer, Listing, ask, listing_of, listings};
pub use several::Several;
use several::SeveralError;

/// One line of a rehearsal.
#[derive(Clone, Debug)]
pub enum RehearsalStep {
    /// Someone did something, or tried to.
    Act {
        /// How it ended.
        answer: Box<Answer>,
        /// Whether anything is different now.
        carried: Carried,
    },
    /// Someone did something to many files.
    Several(Box<Several>),
    /// The scene is different from here on.
    Change {
        /// What was changed.
        change: Change,
        /// What is worth knowing about it.
        notes: Vec<String>,
        /// What an administrator did to files.
        made: Vec<Act>,
    },
}

impl RehearsalStep {
    /// The answer to an act.
    #[must_use]
    pub fn answer(&self) -> Option<&Answer> {
        match self {
            Self::Act { answer, .. } => Some(answer),
            Self::Several(_) | Self::Change { .. } => None,
        }
    }

    /// The acts that changed something.
    pub(crate) const fn carried(&self) -> &[Act] {
        match self {
            Self::Act { answer, carried: Carried::Out } => std::slice::from_ref(&answer.act),
            Self::Several(several) => several.carried.as_slice(),
            Self::Change { made, .. } => made.as_slice(),
            Self::Act { .. } => &[],
        }
    }

    /// Whether what was expected of it holds; `None` where nothing was.
    #[must_use]
    pub fn holds(&self) -> Option<bool> {
        match self {
            Self::Act { answer, .. } => answer.holds(),
            Self::Several(several) => several.holds(),
            Self::Change { .. } => None,
        }
    }

    /// The line as a sentence.
    #[must_use]
    pub fn sentence(&self) -> String {
        match self {
            Self::Act { answer, .. } => answer.act.to_string(),
            Self::Several(several) => several.act.to_string(),
            Self::Change { change, .. } => change.to_string(),
        }
    }
}

/// Why a line cannot be rehearsed.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum RehearsalError {
    /// It names no actor, or several.
    #[error(transparent)]
    Actor(#[from] ActorError),
    /// The change cannot be made.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// Its pattern is not one, or meets nothing.
    #[error("`{act}` cannot be done: {reason}")]
    Pattern {
        /// The act.
        act: String,
        /// Why not.
        reason: String,
    },
}

/// Gives an actor the identity of another one.
fn become_like(actor: &mut Actor, model: &Actor) {
    actor.identity = model.identity.clone();
    actor.credentials = model.credentials.clone();
    actor.blocked = model.blocked.clone();
    actor.confined = model.confined.clone();
    actor.profile = model.profile;
    actor.unmodelled = model.unmodelled.clone();
}

/// A stage on which acts have consequences. Trees are shared with the stage it began on until something changes them.
#[derive(Clone, Debug)]
pub struct Rehearsal {
    /// Shared with the lines before, until one changes it.
    scene: Arc<Scene>,
    start: Stage,
    stage: Stage,
    globs: Arc<dyn Globs>,
    /// What was before each line.
    earlier: Vec<(Arc<Scene>, Stage)>,
    steps: Vec<RehearsalStep>,
}

impl Rehearsal {
    /// Begins on the prepared scene, with `host` as one actor more, after `changes`, which were made in `scene` already
    /// as far as they concern it.
    ///
    /// # Errors
    /// A change of files cannot be made.
    pub fn new(scene: Scene, changes: &Changes) -> Result<Self, ChangeError> {
        let mut stage = stage_with_host(&scene);
        changes.apply_to_files(&mut stage)?;
        let scene = Arc::new(scene);
        let globs = changes.globs();
        Ok(Self { scene, start: stage.clone(), stage, globs, earlier: Vec::new(), steps: Vec::new() })
    }

    /// The stage as the lines so far leave it.
    #[must_use]
    pub const fn stage(&self) -> &Stage {
        &self.stage
    }

    /// The lines so far.
    #[must_use]
    pub fn steps(&self) -> &[RehearsalStep] {
        &self.steps
    }

    /// The next line. Only what is allowed whatever the missing facts are is carried out.
    ///
    /// A change of a description gives every actor the identity and the mount flags that follow from it; what is on
    /// the disks stays as the lines so far left it, since nothing is prepared again.
    ///
    /// # Errors
    /// It names no actor, or the change cannot be made; then nothing happened.
    pub fn next(&mut self, sentence: &Sentence) -> Result<&RehearsalStep, RehearsalError> {
        let scene = self.scene.clone();
        let before = self.stage.clone();
        let step = match sentence {
            Sentence::Act(act) => {
                self.admit(&act.actor);
                if several::is_meant(&self.stage, act) {
                    let done = several::perform_all(&mut self.stage, act, &*self.globs);
                    let done = done.map_err(|error| match error {
                        SeveralError::Actor(error) => RehearsalError::Actor(error),
                        SeveralError::Pattern(reason) => {
                            RehearsalError::Pattern { act: act.to_string(), reason }
                        }
                    });
                    match done {
                        Ok(done) => RehearsalStep::Several(Box::new(done)),
                        Err(error) => {
                            self.stage = before;
                            return Err(error);
                        }
                    }
                } else {
                    let done = perform(&mut self.stage, act)?;
                    RehearsalStep::Act { answer: Box::new(done.answer), carried: done.carried }
                }
            }
            Sentence::Change(change) => {
                let (notes, made) = self.change(change)?;
                RehearsalStep::Change { change: change.clone(), notes, made }
            }
        };
        self.earlier.push((scene, before));
        self.steps.push(step);
        Ok(&self.steps[self.steps.len() - 1])
    }

    /// Takes the last line back and returns it; `None` where no line is left.
    pub fn undo(&mut self) -> Option<RehearsalStep> {
        let (scene, stage) = self.earlier.pop()?;
        self.scene = scene;
        self.stage = stage;
        self.steps.pop()
    }

    /// The directories that the lines changed something in, before the first of them and now.
    #[must_use]
    pub fn listings(&self) -> Vec<Listing> {
        listings(&self.start, &self.stage, self.carried())
    }

    /// One directory with everything in it, before the first line and now, as `actor` sees it; `None` where it comes to no
    /// directory there.
    ///
    /// # Errors
    /// No actor is called so.
    pub fn listing_of(&self, actor: &str, directory: &[u8]) -> Result<Option<Listing>, ActorError> {
        listing_of(&self.start, &self.stage, actor, directory)
    }

    /// A sentence with numbers in place of the names of accounts, as they are now.
    #[must_use]
    pub fn numbered(&self, sentence: &str) -> String {
        AccountNames::of(&self.scene).numbered(sentence)
    }

    /// How an act would end now; nothing is carried out.
    ///
    /// # Errors
    /// It names no actor.
    pub fn ask(&mut self, act: &Act) -> Result<Answer, ActorError> {
        self.admit(&act.actor);
        ask(&self.stage, act)
    }

    /// The acts that changed something.
    fn carried(&self) -> impl Iterator<Item = &Act> {
        self.steps.iter().flat_map(RehearsalStep::carried)
    }

    /// Each line with the scene and the stage before it, and the stage behind it.
    pub(crate) fn lines(&self) -> impl Iterator<Item = (&RehearsalStep, (&Scene, &Stage), &Stage)> {
        self.steps.iter().enumerate().filter_map(|(at, step)| {
            let (scene, before) = self.earlier.get(at)?;
            let after = self.earlier.get(at + 1).map_or(&self.stage, |(_, stage)| stage);
            Some((step, (&**scene, before), after))
        })
    }

    /// Whoever acts in the place of an actor comes there now: who it is, and what a program makes of it, may have changed.
    fn admit(&mut self, name: &str) {
        if !Subject::named(name).is_guest() {
            return;
        }
        if !self.scene.guests.iter().any(|known| known == name) {
            Arc::make_mut(&mut self.scene).guests.push(name.to_owned());
        }
        prepare::admit(&mut self.stage, &self.scene, name);
    }

    /// Every actor as a changed description has it.
    fn take(&mut self, next: &Stage) {
        let actors = Arc::make_mut(&mut self.stage.actors).iter_mut();
        let model = next.actors.iter().filter(|actor| !actor.guest);
        let mut anew = Vec::new();
        for (actor, model) in actors.filter(|actor| !actor.guest).zip(model) {
            become_like(actor, model);
            actor.mounts.take_flags(&model.mounts);
            anew.extend(labels::take_relabelled(&mut actor.mounts, &model.mounts));
        }
        labels::label_all(&mut self.stage, &anew);
    }

    /// Who would be somebody else after a new start.
    fn waiting(&self, next: &Stage) -> Option<String> {
        let own = self.stage.actors.iter().filter(|actor| !actor.guest);
        let pairs = own.zip(next.actors.iter().filter(|actor| !actor.guest));
        let waiting: Vec<&str> = pairs
            .filter(|(was, is)| was.identity.possible != is.identity.possible)
            .map(|(was, _)| &*was.name)
            .collect();
        (!waiting.is_empty())
            .then(|| format!("it counts for what is started afterwards: `{} starts again`", listed(&waiting)))
    }

    /// A new process of `name`; where it is made again, in a new container with the image's files.
    fn restart(&mut self, name: &str, next: &Stage, anew: bool) -> Result<(), RehearsalError> {
        let model = next.actor(name)?.clone();
        let at = self.stage.actors.iter().position(|actor| actor.name == model.name);
        let Some(at) = at else { return Ok(()) };
        let actor = &mut Arc::make_mut(&mut self.stage.actors)[at];
        become_like(actor, &model);
        let mounts = actor.mounts.clone();
        // Docker labels what is mounted at every start, Podman when it makes a container.
        if anew || model.runtime == Runtime::Docker {
            labels::label_all(&mut self.stage, &labels::labelled_at_start(&mounts));
        }
        if anew {
            for ((_, mount), (_, fresh)) in mounts.iter().zip(model.mounts.iter()) {
                let own = mount.origin == MountOrigin::Root || mount.facts.kind == MountKind::Tmpfs;
                for (variant, fresh) in mount.variants.iter().zip(&fresh.variants).filter(|_| own) {
                    let tree = next.source(fresh.source).tree.clone();
                    self.stage.storage.source_mut(variant.source).tree = tree;
                }
            }
        }
        Ok(())
    }

    fn change(&mut self, change: &Change) -> Result<(Vec<String>, Vec<Act>), RehearsalError> {
        let mut scene = Scene::clone(&self.scene);
        let changes = Changes::new(vec![change.clone()]);
        for (_, name) in changes.actors() {
            self.stage.actor(name)?;
        }
        let notes = changes.apply_to_scene(&mut scene)?;
        let next = stage_with_host(&scene);
        if matches!(change, Change::Process(_, Process::Level(_))) && prepare::draws_anew(&self.scene, &scene)
        {
            labels::forget_all(&mut self.stage);
        }
        let mut notes = notes;
        match change {
            // Whoever runs already has the groups it was started with.
            Change::Accounts(..) => notes.extend(self.waiting(&next)),
            Change::Process(name, Process::StartsAgain) => self.restart(name, &next, false)?,
            Change::Process(name, Process::IsMadeAgain) => self.restart(name, &next, true)?,
            Change::Files(_)
            | Change::Image(_)
            | Change::Process(..)
            | Change::FilesystemGroup(_)
            | Change::Joins(_) => {
                self.take(&next);
                // Another level takes another container.
                if let Change::Process(name, Process::Level(_)) = change {
                    let again = labels::labelled_at_start(&self.stage.actor(name)?.mounts);
                    labels::label_all(&mut self.stage, &again);
                }
            }
            Change::Security(what) => {
                self.take(&next);
                what.apply_to_stage(&scene, &mut self.stage)
                    .map_err(|reason| ChangeError::new(change, reason))?;
            }
        }
        // Files of the host are changed where its actor sees them.
        let made = changes.with(self.globs.clone()).apply_to_files(&mut self.stage)?;
        self.scene = Arc::new(scene);
        Ok((notes, made))
    }
}
