//! Everything that was given: workloads, images, volumes and the host.

mod apparmor;
mod program;
mod selinux;
mod volume;
mod workload;

use std::collections::BTreeMap;
use std::sync::Arc;

use mivask_model::accounts::Accounts;

use crate::actor_names::ActorNames;
use crate::cluster::Cluster;
pub use crate::cluster::HostPathCheck;
use crate::identity::{ImageFacts, Knowledge};
use crate::namespace::{Starter, SubordinateIds, UnknownStarter, remapped, starter};
use crate::recipe::Recipe;
use crate::runtime::{Builder, Runtime};
use mivask_model::fact::{Fact, Provenance};
use mivask_model::host_mounts::HostMounts;
use mivask_model::ids::UserNamespace;
use mivask_model::labels::Labels;
use mivask_model::mount::MountFlags;
use mivask_model::personality::Personality;
use mivask_model::refusal::Refusal;
use mivask_model::storage::Settings;
use mivask_model::tree::Tree;

pub use apparmor::ProfileAsked;
pub use program::{Program, USUAL_SEARCH};
pub use selinux::{LabelAsked, Selinux, SelinuxMode};
pub use volume::*;
pub use workload::*;

/// Everything that was given, before any rule is applied.
#[derive(Clone, Debug, Default)]
pub struct Scene {
    /// What it is about, in the user's words.
    pub title: Option<String>,
    /// What runs.
    ///
    /// Copies of a scene, in which something is changed, share those that stay as they are.
    pub workloads: Vec<Arc<Workload>>,
    /// What is known of images, by the name workloads use.
    pub images: BTreeMap<String, Image>,
    /// Where images are to be looked for of which not everything is given, in order; nowhere where it is empty.
    pub images_from: Vec<String>,
    /// How images are built that is not given, by the same name. What `images` says of one wins.
    pub builds: BTreeMap<String, Recipe>,
    /// What is known of volumes, by claim name, namespace and claim name (`shop/data`), or scene volume name.
    pub volumes: BTreeMap<String, VolumeFacts>,
    /// What is known of the host.
    pub host: Host,
    /// The runtime that was named; each workload's usual one where none was, or where it cannot run it.
    pub runtime: Option<Runtime>,
    /// The builder that was named; the runtime's usual one where none was.
    pub builder: Option<Builder>,
    /// Ids the platform gives to pods that name none.
    pub assigned: Assigned,
    /// Objects that pods refer to.
    pub cluster: Cluster,
    /// Who else acts in the place of an actor, by name: `gauge as root`; `* as root` stands for one in every place.
    pub guests: Vec<String>,
    /// Whether missing facts that are usually one way are taken to be so, as assumptions (docs/usual.md).
    pub as_usual: bool,
}

impl Scene {
    /// What is known of a claim: what is said of `NAMESPACE/CLAIM`, else of the name alone, which is that in every namespace.
    #[must_use]
    pub fn claim(&self, namespace: &str, claim: &str) -> Option<&VolumeFacts> {
        let own = self.volumes.get(&format!("{namespace}/{claim}"));
        own.or_else(|| self.volumes.get(claim))
    }

    /// The names its actors go by.
    #[must_use]
    pub fn actor_names(&self) -> ActorNames {
        let names: Vec<Arc<str>> =
            self.workloads.iter().map(|workload| workload.name.as_str().into()).collect();
        let workloads = names.iter().zip(&self.workloads);
        ActorNames::of(workloads.flat_map(|(name, workload)| {
            workload.containers.iter().map(move |container| (name, container.name.as_str()))
        }))
    }

    /// The same where missing facts are as usual.
    #[must_use]
    pub fn as_usual(&self) -> Self {
        Self { as_usual: true, ..self.clone() }
    }

    /// The runtime of `workload`.
    #[must_use]
    pub fn runtime_of(&self, workload: &Workload) -> Runtime {
        let named = self.runtime.filter(|runtime| runtime.runs(workload.flavour));
        named.unwrap_or_else(|| workload.flavour.usual())
    }
}

/// Ids that some platforms give to every pod of a namespace whose manifest names none.
#[derive(Clone, Debug, Default)]
pub struct Assigned {
    /// In place of a missing `runAsUser`.
    pub user: Option<Fact<u32>>,
    /// In place of a missing `runAsGroup`.
    pub group: Option<Fact<u32>>,
    /// In place of a missing `fsGroup`.
    pub filesystem_group: Option<Fact<u32>>,
}

/// What is known of one image.
#[derive(Clone, Debug, Default)]
pub struct Image {
    /// Its user and accounts.
    pub identity: ImageFacts,
    /// Its files; `None` if not given.
    pub tree: Option<Arc<Tree>>,
    /// The paths of its `VOLUME`s.
    pub volumes: Vec<Fact<Vec<u8>>>,
    /// Its working directory.
    pub working_directory: Option<Fact<Vec<u8>>>,
    /// The program it starts.
    pub program: Knowledge<Program>,
    /// What was taken for granted about it.
    pub assumptions: Vec<Arc<str>>,
    /// Why there is no such image: its build fails.
    pub failure: Option<Refusal>,
}

/// What is known of one volume.
#[derive(Clone, Debug)]
pub struct VolumeFacts {
    /// What is on it; `None` if not given.
    pub tree: Option<Arc<Tree>>,
    /// Its filesystem type.
    pub filesystem: Option<Fact<String>>,
    /// What that filesystem does differently, its options included.
    pub personality: Personality,
    /// Mount options that are flags.
    pub flags: MountFlags,
    /// Whether its superblock is read-only.
    pub read_only_filesystem: bool,
    /// Whether the kubelet applies the filesystem group to it.
    pub group_ownership: Option<Fact<bool>>,
    /// What is known of its labels as a whole.
    pub labels: Labels,
    /// Where it was given.
    pub from: Provenance,
}

impl VolumeFacts {
    /// What is on a volume with a native file system.
    #[must_use]
    pub fn native(filesystem: &str, tree: Tree, from: Provenance) -> Self {
        Self {
            tree: Some(Arc::new(tree)),
            filesystem: Some(Fact::new(filesystem.to_owned(), from.clone())),
            personality: Personality::default(),
            flags: MountFlags::NONE,
            read_only_filesystem: false,
            group_ownership: None,
            labels: Labels::default(),
            from,
        }
    }
}

/// What is known of the host.
#[derive(Clone, Debug, Default)]
pub struct Host {
    /// What is at the sources of host paths; `None` if not given.
    pub tree: Option<Arc<Tree>>,
    /// What is mounted on it; `None` if not given.
    pub mounts: Option<HostMounts>,
    /// Its account files; they decide nothing in a container, and tell which numbers are taken.
    pub accounts: Option<Accounts>,
    /// Its kernel settings.
    pub settings: Settings,
    /// The user namespace that containers without one of their own live in, where it is not the host's.
    pub user_namespace: Option<Fact<Arc<UserNamespace>>>,
    /// Whose subordinate ids containers of a daemon of root's have (`default`, a login name or a user id, maybe with a group): what is not
    /// given as `user_namespace`.
    pub remapped_to: Option<Fact<String>>,
    /// Who starts the engines, by login name or user id of the host; root where left out.
    pub started_by: Option<Fact<String>>,
    /// Its `/etc/subuid` and `/etc/subgid`.
    pub subordinate: SubordinateIds,
    /// What is known of SELinux there; `None` if nothing is said.
    pub selinux: Option<Selinux>,
    /// Whether it has AppArmor; `None` if nothing is said.
    pub apparmor: Option<bool>,
}

impl Host {
    /// Who starts the engines, where that is not root.
    ///
    /// # Errors
    /// Where a name cannot be looked up, or the ids make no map.
    pub fn starter(&self) -> Result<Option<Starter>, UnknownStarter> {
        let Some(word) = &self.started_by else { return Ok(None) };
        starter(word, self.accounts.as_ref(), &self.subordinate)
    }

    /// The user namespace that containers without one of their own live in, where it is not the host's.
    ///
    /// # Errors
    /// Where it is that of a user's subordinate ids, and nobody can tell these.
    pub fn containers_namespace(&self) -> Result<Option<Fact<Arc<UserNamespace>>>, UnknownStarter> {
        let Some(word) = self.remapped_to.as_ref().filter(|_| self.user_namespace.is_none()) else {
            return Ok(self.user_namespace.clone());
        };
        let namespace = remapped(word, self.accounts.as_ref(), &self.subordinate)?;
        Ok(namespace.map(|namespace| Fact::new(Arc::new(namespace), word.from.clone())))
    }
}
