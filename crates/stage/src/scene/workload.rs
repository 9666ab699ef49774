//! What runs: workloads and their containers.

use std::sync::Arc;

use mivask_model::fact::{Fact, Provenance};
use mivask_model::mode::Mode;
use mivask_model::refusal::Refusal;
use mivask_model::unmodelled::Unmodelled;

use super::{LabelAsked, Lent, ProfileAsked, Program, Volume, VolumeKind, VolumeMount};
use crate::identity::{ContainerSecurity, PlainIdentity, PodSecurity, ProcessIdentity, Resolved};
use crate::runtime::Flavour;
use crate::stage::Role;

/// One workload: a pod, or the containers a scene file lists itself.
#[derive(Clone, Debug)]
pub struct Workload {
    /// Its name.
    pub name: String,
    /// Its kind in the description, such as `Deployment`.
    pub kind: String,
    /// What kind of description it comes from.
    pub flavour: Flavour,
    /// Its namespace in a cluster; `default` where none is given.
    pub namespace: String,
    /// `hostUsers: false`: the pod has a user namespace of its own, and its volumes are id-mapped.
    pub own_users: Option<Provenance>,
    /// The pod-level security context; the default for containers of a scene file.
    pub security: PodSecurity,
    /// The volumes it declares.
    pub volumes: Vec<Volume>,
    /// Its containers in order: init containers first.
    pub containers: Vec<Container>,
    /// Whether the service account token is mounted; `None` if not given.
    pub service_account_token: Option<Fact<bool>>,
    /// Where it was described.
    pub from: Provenance,
}

impl Workload {
    /// Containers that see exactly the mounts they ask for, of volumes that the scene mentions by name.
    #[must_use]
    pub fn plain(name: &str, containers: Vec<Container>, from: Provenance) -> Self {
        let mounts = containers.iter().flat_map(|container| &container.mounts);
        let names: std::collections::BTreeSet<&str> =
            mounts.map(|mount| mount.volume.value.as_str()).collect();
        let volume = |name: &str| Volume {
            name: Fact::new(name.to_owned(), from.clone()),
            kind: VolumeKind::Stored(name.to_owned()),
        };
        Self {
            name: name.to_owned(),
            kind: "scene".to_owned(),
            flavour: Flavour::Scene,
            namespace: String::new(),
            own_users: None,
            security: PodSecurity::default(),
            volumes: names.into_iter().map(volume).collect(),
            containers,
            service_account_token: None,
            from,
        }
    }
}

/// Who describes a container's identity.
#[derive(Clone, Debug)]
pub enum Who {
    /// A Kubernetes security context.
    Kubernetes(Box<ContainerSecurity>),
    /// The scene file itself, or a Compose file.
    Plain(Box<PlainIdentity>),
    /// An OCI runtime configuration.
    Process(Box<ProcessIdentity>),
    /// A process that runs already: it is who it is.
    Running(Box<Resolved>),
}

/// Whose `/dev/shm` and message queues a container has (docs/facts/runtimes.md section 10).
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub enum Ipc {
    /// Nothing is said: those of its pod, else its own, which engines let others join or not.
    #[default]
    Default,
    /// Its own, which nobody joins.
    Private,
    /// Its own, which others may join.
    Shareable,
    /// No `/dev/shm`.
    None,
    /// Those of the host.
    Host(Provenance),
    /// Those of this container of the same workload.
    Of(Fact<String>),
    /// Those of this container, of which nothing is described.
    Elsewhere(Fact<String>),
}

/// A file that is copied into a container before it starts, as Compose does with secrets and configs that are no files of the host.
#[derive(Clone, Debug)]
pub struct GivenFile {
    /// Its path.
    pub at: Fact<Vec<u8>>,
    /// Its owner, inside.
    pub uid: u32,
    /// Its group, inside.
    pub gid: u32,
    /// Its mode.
    pub mode: Mode,
}

/// A path that is shielded when everything is mounted.
#[derive(Clone, Debug)]
pub struct Shield {
    /// The path.
    pub at: Fact<Vec<u8>>,
    /// How.
    pub kind: ShieldKind,
}

/// How a path is shielded.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ShieldKind {
    /// Hidden behind an empty directory or `/dev/null`.
    Masked,
    /// Mounted again, read-only.
    ReadOnly,
}

/// One container.
#[derive(Clone, Debug)]
pub struct Container {
    /// Its name.
    pub name: String,
    /// Its part in the pod.
    pub role: Role,
    /// The image it runs.
    pub image: Option<Fact<String>>,
    /// Who it is to be.
    pub who: Who,
    /// Whether its root filesystem is mounted read-only.
    pub read_only_root: bool,
    /// Whether Podman leaves out the scratch space that it mounts below such a root (`--read-only-tmpfs=false`).
    pub no_scratch: bool,
    /// Whether it is privileged: every device, writable `/sys`.
    pub privileged: bool,
    /// Whether nothing of `/proc` and `/sys` is hidden or kept from being written.
    pub unmasked: bool,
    /// Whose `/dev/shm` and message queues it has.
    pub ipc: Ipc,
    /// The container whose network, and with it whose `/etc/hosts`, `/etc/hostname` and `/etc/resolv.conf`, it has.
    pub network_of: Option<Fact<String>>,
    /// Whether it has no network: an engine may leave out what goes with one.
    pub without_network: bool,
    /// Whether it has a terminal of its own (`tty`), and with it `/dev/console`.
    pub terminal: bool,
    /// Whether its standard input is held open, so that it is not `/dev/null`.
    pub holds_input: bool,
    /// Whether it is nobody's container, but a person on the host, who sees the host's files and has an account there.
    pub on_host: bool,
    /// Where it says that an engine without root makes it.
    pub of_user: Option<Provenance>,
    /// The pod of an engine that it is in: all of its containers have one user namespace.
    pub pod: Option<Arc<str>>,
    /// What is taken for granted of it, since no description tells.
    pub assumes: Vec<Arc<str>>,
    /// Why it never runs, where the description alone says so.
    pub refusal: Option<Refusal>,
    /// The mounts it asks for.
    pub mounts: Vec<VolumeMount>,
    /// Its working directory, where the description sets one.
    pub working_directory: Option<Fact<Vec<u8>>>,
    /// What it starts.
    pub program: Program,
    /// Containers of the same workload that lend it the volumes of their images, and whether read-only.
    pub lenders: Vec<(Fact<String>, Lent, bool)>,
    /// Files that are put into it before it starts.
    pub files: Vec<GivenFile>,
    /// What a bundle hides and keeps from being written, in its order.
    pub shields: Vec<Shield>,
    /// Where the kubelet mounts the termination log, where the description says so.
    pub termination_log: Option<Fact<Vec<u8>>>,
    /// What it asks for that no rule here follows.
    pub unmodelled: Vec<Unmodelled>,
    /// What it asks of its label.
    pub label: LabelAsked,
    /// What it asks of AppArmor.
    pub apparmor: ProfileAsked,
    /// Where it was described.
    pub from: Provenance,
}

impl Container {
    /// A container of which no more is known than its name and its place.
    #[must_use]
    pub fn new(name: &str, from: Provenance) -> Self {
        Self {
            name: name.to_owned(),
            role: Role::App,
            image: None,
            who: Who::Plain(Box::default()),
            read_only_root: false,
            no_scratch: false,
            privileged: false,
            unmasked: false,
            ipc: Ipc::Default,
            network_of: None,
            without_network: false,
            terminal: false,
            holds_input: false,
            on_host: false,
            of_user: None,
            pod: None,
            assumes: Vec::new(),
            refusal: None,
            mounts: Vec::new(),
            working_directory: None,
            program: Program::default(),
            lenders: Vec::new(),
            files: Vec::new(),
            shields: Vec::new(),
            termination_log: None,
            unmodelled: Vec::new(),
            label: LabelAsked::default(),
            apparmor: ProfileAsked::default(),
            from,
        }
    }

    /// A container that runs as `user` (`UID`, `UID:GID` or names) and asks for nothing more.
    #[must_use]
    pub fn plain(name: &str, user: &str, from: Provenance) -> Self {
        let user = Some(Fact::new(user.to_owned(), from.clone()));
        let who = Who::Plain(Box::new(PlainIdentity { user, ..PlainIdentity::default() }));
        Self { who, ..Self::new(name, from) }
    }
}
