//! The stage: everything known, with each actor before its mount table.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use mivask_model::credentials::Credentials;
use mivask_model::fact::Provenance;
use mivask_model::mount::{MountTable, Source, SourceId};
use mivask_model::refusal::Refusal;
use mivask_model::storage::Storage;
use mivask_model::unmodelled::Unmodelled;
use mivask_model::usual::Usual;
use mivask_rules::confined::Confined;
use mivask_rules::profile::Profile;
use mivask_rules::view::{Devices, View};
use mivask_rules::witness::{MissingFact, Witness};

use crate::actor_names::{ActorError, ActorNames};
use crate::identity::{IdentityFact, Resolved};
use crate::namespace::Starter;
use crate::need::Need;
use crate::runtime::Runtime;

/// What part of a pod a container is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Role {
    /// Runs to its end before the others start.
    Init,
    /// An init container that keeps running beside the others.
    Sidecar,
    /// An ordinary container.
    App,
    /// A container added to a running pod, for looking around.
    Ephemeral,
    /// No container: somebody on the host.
    Person,
}

impl Role {
    /// The word used in answers.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Init => "init",
            Self::Sidecar => "sidecar",
            Self::App => "app",
            Self::Ephemeral => "ephemeral",
            Self::Person => "person",
        }
    }
}

/// One process identity of the scene with what it sees.
#[derive(Clone, Debug)]
pub struct Actor {
    /// The name it goes by in this scene.
    pub name: Arc<str>,
    /// The workload it belongs to.
    pub workload: Arc<str>,
    /// The container's name.
    pub container: Arc<str>,
    /// Its part in the pod.
    pub role: Role,
    /// The image it runs; `None` if not given.
    pub image: Option<Arc<str>>,
    /// Who it is.
    pub identity: Resolved,
    /// The same in kernel ids, one for each possible identity.
    pub credentials: Vec<Credentials>,
    /// What it sees.
    pub mounts: MountTable,
    /// Whether the container may open devices outside the runtime's default list.
    pub all_devices: bool,
    /// What its description asks for that no rule here follows.
    pub unmodelled: Vec<Unmodelled>,
    /// Its label, where the host's SELinux policy is known.
    pub confined: Option<Arc<Confined>>,
    /// The AppArmor profile that its engine gives it, if any.
    pub profile: Option<Profile>,
    /// What has to be so for it to start, and is not known.
    pub needs: Vec<Need>,
    /// Why a volume keeps its pod from starting.
    pub blocked: Option<Refusal>,
    /// Whose rules it is made by.
    pub runtime: Runtime,
    /// Who starts the engine that makes it, where that is not root.
    pub starter: Option<Arc<Starter>>,
    /// Whether it is somebody else in the place of an actor: `gauge as root`.
    pub guest: bool,
    /// Where it was described.
    pub from: Provenance,
}

impl Actor {
    /// Why it never runs, if it does not.
    #[must_use]
    pub fn refusal(&self) -> Option<&Refusal> {
        self.identity.refusal.as_ref().or(self.blocked.as_ref())
    }

    /// The facts behind its identity.
    #[must_use]
    pub fn facts(&self) -> &[IdentityFact] {
        &self.identity.facts
    }

    /// The credentials it acts with, asking which ones where several are possible.
    pub fn choose_credentials<W: Witness>(&self, w: &mut W) -> &Credentials {
        let possible = &self.identity.possible;
        let chosen = match (&self.identity.question, possible.len()) {
            (Some(unknown), count) if count > 1 => {
                w.choose(MissingFact::Identity, unknown, count, |option| possible[option].0.to_string())
            }
            _ => 0,
        };
        &self.credentials[chosen]
    }
}

/// Everything known, ready to be asked.
#[derive(Clone, Debug, Default)]
pub struct Stage {
    /// What mounts show.
    pub storage: Storage,
    /// The actors, in the order of their description.
    ///
    /// Copies of a stage, on which something is tried, share them until one changes them.
    pub actors: Arc<Vec<Actor>>,
    pub(crate) actor_names: Arc<ActorNames>,
    /// The number of the first actor here among those of the scene.
    pub first: usize,
    /// What was taken to be as usual, by the name of the source that it is of; nothing unless the scene asked for it
    /// ([`Scene::as_usual`](crate::scene::Scene::as_usual)).
    pub usual: BTreeMap<Arc<str>, BTreeSet<Usual>>,
}

impl Stage {
    /// What `who`, one of the possible credentials of `actor`, acts on. `name` is the actor's in answers.
    #[must_use]
    pub fn view<'a>(&'a self, actor: &'a Actor, who: &'a Credentials, name: &'a str) -> View<'a> {
        let devices = if actor.all_devices { Devices::All } else { Devices::Listed };
        let view = View::new(&self.storage, &actor.mounts, who, name, devices);
        view.with_unmodelled(&actor.unmodelled).confined_by(actor.confined.as_deref()).profiled(actor.profile)
    }

    /// Notes that something of `source` is taken to be as usual.
    pub(crate) fn take_usual(&mut self, source: &str, usual: Usual) {
        self.usual.entry(source.into()).or_default().insert(usual);
    }

    /// Adds a source.
    pub fn add_source(&mut self, source: Source) -> SourceId {
        self.storage.add_source(source)
    }

    /// The source `id`.
    #[must_use]
    pub fn source(&self, id: SourceId) -> &Source {
        self.storage.source(id)
    }

    /// Every source.
    pub fn source_ids(&self) -> impl Iterator<Item = SourceId> + use<> {
        self.storage.source_ids()
    }

    /// The actor called `name`: a container, or `workload/container`.
    ///
    /// # Errors
    /// No one has that name, or several have.
    pub fn actor(&self, name: &str) -> Result<&Actor, ActorError> {
        match self.guest(name) {
            Some(guest) => Ok(guest),
            None => self.actor_names.find(name).map(|at| &self.actors[at - self.first]),
        }
    }

    /// Guests come behind all that have a place in the scene.
    fn guest(&self, name: &str) -> Option<&Actor> {
        self.actors.iter().rev().take_while(|actor| actor.guest).find(|actor| *actor.name == *name)
    }

    /// Whether the actor called `name` is on this stage, and not on that of another workload.
    #[must_use]
    pub fn has(&self, name: &str) -> bool {
        let found = self.actor_names.find(name);
        self.guest(name).is_some()
            || found.is_ok_and(|at| at >= self.first && at - self.first < self.actors.len())
    }

    /// The names of every actor of the scene, on this stage or not.
    #[must_use]
    pub fn actor_names(&self) -> &ActorNames {
        &self.actor_names
    }
}
