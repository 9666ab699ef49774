//! The switches of a profile.

use mivask_model::caps::CapabilitySet;
use mivask_model::mount::MountFlags;
use mivask_model::path::cleaned;

/// What kind of description a workload comes from; it decides which runtimes can run it.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub enum Flavour {
    /// Containers that the scene file lists itself.
    #[default]
    Scene,
    /// A Kubernetes object.
    Pod,
    /// A service of a Compose file.
    Compose,
    /// An OCI runtime configuration.
    Bundle,
}

/// Every rule in which runtimes differ.
#[derive(Debug)]
pub struct Profile {
    /// Who a process is.
    pub identity: IdentityRules,
    /// What it may do.
    pub capabilities: CapabilityRules,
    /// What is made where a mount point is missing.
    pub mount_points: MountPointRules,
    /// What a tmpfs looks like.
    pub tmpfs: TmpfsRules,
    /// What a bind mount of the host does.
    pub binds: BindRules,
    /// What a named or anonymous volume does.
    pub volumes: VolumeRules,
    /// Who somebody is whom the engine starts in a running container.
    pub entering: Entering,
    /// What containers have of others that they join.
    pub joins: JoinRules,
    /// What is mounted into every container, table by table.
    pub defaults: &'static [&'static [DefaultRow]],
    /// Whether a missing working directory is made; an error otherwise.
    pub makes_working_directory: bool,
    /// Whether what is made of a working directory is root's in every case; the group of a set-group-ID directory otherwise.
    pub owns_working_directory: bool,
    /// Whether a privileged container is refused in a user namespace (Docker with remapped ids).
    pub refuses_privileged_in_namespace: bool,
    /// Whether account files that the image has not are made for a user who is named, 0:0 0600; bound 0644 where the root is
    /// read-only (Podman).
    pub makes_accounts: bool,
    /// What is put into the image's root beside its own files.
    pub added: &'static [Added],
    /// Whether standard input that is `/dev/null` is given to the process's user and group (crun's
    /// `maybe_chown_std_streams`).
    pub gives_null_away: bool,
    /// The root directory, whatever the image says of it; the image's own where `None`.
    pub root_directory: Option<RootDirectory>,
    /// Whether a working directory that is not absolute is taken from the root; an error otherwise
    /// (docs/facts/runtimes.md section 14).
    pub takes_relative_directory: bool,
    /// Said with every identity: why the rules may differ from what runs.
    pub caveat: Option<&'static str>,
}

/// When the primary group is in the list of supplementary groups too.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Listing {
    /// Always.
    Always,
    /// Unless neither the workload nor the image names a user.
    UnlessNobodyNamesAUser,
    /// Never: only what is asked for.
    Never,
}

/// Rules of identity (docs/facts/runtimes.md section 1).
#[derive(Clone, Copy, Debug)]
pub struct IdentityRules {
    /// Whether the primary group is listed again.
    pub listing: Listing,
    /// Whether `user:` with an empty group part counts as a group part, which drops memberships.
    pub empty_group_is_explicit: bool,
    /// Whether runc 1.1 looks each supplementary number up as a group *name* first.
    pub captures_group_names: bool,
    /// Whether the group name `keep-groups` means those of who starts the container: none for root.
    pub knows_keep_groups: bool,
    /// Whether an added group without a name is passed over; an error otherwise.
    pub passes_over_empty_groups: bool,
    /// Whether a process for which nobody names a user has group 0, whatever the account says.
    pub nobody_has_group_0: bool,
    /// Whether an image's USER alone gets root's memberships instead of the user's own (containerd 1.6 without a kubelet).
    pub image_user_gets_roots_groups: bool,
    /// Whether a passwd or group file that is mounted over the image's is the one looked into.
    pub reads_mounted_accounts: bool,
    /// Whether ids above 2147483647 keep the process from starting.
    pub refuses_large_ids: bool,
    /// Whether memberships whose number is negative or above 2147483646 are passed over.
    pub passes_over_large_memberships: bool,
    /// Whether a pod-level runAsGroup without a runAsUser keeps the whole pod from starting.
    pub refuses_group_without_user: bool,
    /// Whether a user namespace of a bundle has to have an id 0 (runc: "no user mapping found").
    pub needs_root_in_namespace: bool,
}

/// How capability names are taken.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum CapabilityNames {
    /// Any letter case, no `CAP_` prefix; everything else is passed over silently.
    Bare,
    /// Any letter case, with or without `CAP_`; an unknown name is an error.
    Either,
}

/// What a name in both `add` and `drop` does.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Both {
    /// It is kept, and `ALL` in both gives all.
    Kept,
    /// It is dropped, and `ALL` in both leaves nothing.
    Dropped,
    /// The container is refused.
    Refused,
}

/// Rules of capabilities (docs/facts/runtimes.md section 2).
#[derive(Clone, Copy, Debug)]
pub struct CapabilityRules {
    /// What root gets when nothing is asked for.
    pub default: CapabilitySet,
    /// What `ALL` and privileged mean.
    pub all: CapabilitySet,
    /// How names are taken.
    pub names: CapabilityNames,
    /// What a name in both lists does.
    pub both: Both,
    /// Whether an added capability is in force for users other than root too (ambient).
    pub ambient: bool,
}

/// Modes of what is made for a missing mount point (docs/facts/runtimes.md sections 4 and 10).
#[derive(Clone, Copy, Debug)]
pub struct MountPointRules {
    /// The directory itself and, for a directory, its parents; octal.
    pub directory: u16,
    /// The file that a file is mounted on; octal.
    pub file: u16,
    /// Directories above such a file; octal.
    pub above_file: u16,
    /// Whether it is made even where the mount around it is read-only.
    pub in_read_only: bool,
    /// Whether a tmpfs turns read-only only when everything is mounted (runc).
    pub tmpfs_read_only_last: bool,
    /// Whether a link that points at nothing is followed, and its target made; an error otherwise (crun).
    pub follows_dangling: bool,
    /// Whether nothing but some files may be mounted at or below `/proc` (runc's `checkProcMount`).
    pub guards_proc: bool,
    /// Said as the provenance of what is made.
    pub rule: &'static str,
}

impl MountPointRules {
    /// Where `path` is mounted: without what means nothing in it. crun leaves a slash at its end, which only a directory may have.
    #[must_use]
    pub fn place(&self, path: &[u8]) -> Vec<u8> {
        let mut place = cleaned(path);
        if !self.guards_proc && path.ends_with(b"/") && place.len() > 1 {
            place.push(b'/');
        }
        place
    }
}

/// Rules of tmpfs mounts (docs/facts/runtimes.md section 5).
#[derive(Clone, Copy, Debug)]
pub struct TmpfsRules {
    /// Flags where the description sets none.
    pub flags: MountFlags,
    /// Whether an existing directory's mode wins over everything asked for (runc 1.1).
    pub keeps_directory_mode: bool,
    /// Whether the image's content at that path is copied in.
    pub copies_up: bool,
    /// Whether `uid=` and `gid=` are honoured; they are refused otherwise.
    pub takes_owner: bool,
    /// Whether options beyond `mode=`, `size=` and flags that Mivask shows are passed on; they are refused otherwise.
    pub takes_others: bool,
}

/// What a read-only bind does with the other flags of the host mount it shows.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Forgets {
    /// They are kept.
    Nothing,
    /// A bind that asks for any flag shows those alone (runc 1.1).
    WhereAsked,
    /// Every bind shows what it asks for alone, whatever a later option takes back (crun 1.8).
    Always,
    /// A writable bind of a read-only host mount is writable (Podman).
    ReadOnly,
}

/// Rules of binds (docs/facts/runtimes.md section 4).
#[derive(Clone, Copy, Debug)]
pub struct BindRules {
    /// Whether a missing source is made; an error otherwise.
    pub makes_missing_source: bool,
    /// What becomes of the host mount's flags.
    pub forgets: Forgets,
    /// Whether a bundle's mount gets the id map that it has or that its option `idmap` asks for (crun); runc before 1.2 leaves it out.
    pub maps_ids: bool,
    /// Whether mounts below a source come along even where they are to be left out (Podman 4.3).
    pub always_along: bool,
    /// What changes in a user namespace of the container's own.
    pub in_namespace: InNamespace,
}

/// What becomes of the mounts below a bind in a user namespace of the container's own (docs/facts/runtimes.md section 10).
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum InNamespace {
    /// The same as elsewhere.
    AsAsked,
    /// They stay behind, whatever is asked for: crun 1.8 hands over the outer mount alone.
    LeavesBehind,
    /// They cannot be left behind: the kernel refuses to show what they cover (`has_locked_children`, fs/namespace.c).
    CannotLeave,
}

/// Rules of named and anonymous volumes (docs/facts/runtimes.md section 3).
#[derive(Clone, Copy, Debug)]
pub struct VolumeRules {
    /// Flags of every volume's mount.
    pub flags: MountFlags,
    /// Whether the root is taken from the image at the first mount whatever the volume holds, and given to the
    /// process where the image has nothing there (Podman); with the content only, otherwise (Docker).
    pub owns_root_at_first_mount: bool,
    /// Whether a mount takes `U`, `O`, `idmap` and flags such as `noexec`; they are refused otherwise.
    pub takes_options: bool,
    /// Whether a link at that path in the image gives its own mode, 0777, to the root (Podman).
    pub link_gives_its_mode: bool,
}

/// Who somebody is who is started in a running container (docs/facts/runtimes.md section 13).
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Entering {
    /// Who the container's own process would be with that user, added groups included. Under no-new-privileges root has not
    /// more than what is permitted to that process.
    LikeAtStart,
    /// The account with its memberships alone; the primary group is not listed again.
    AccountAlone,
    /// Engines of clusters start everybody as the container's user: somebody else comes from the node, or by a program that
    /// logs in.
    FromTheNode,
}

/// A file that an engine makes in the image's root, 0:0, where it is not mounted.
#[derive(Clone, Copy, Debug)]
pub struct Added {
    /// Its path, without the leading slash.
    pub path: &'static str,
    /// Its mode, octal.
    pub mode: u16,
    /// Where it points, for a symbolic link; a regular file otherwise.
    pub target: Option<&'static str>,
}

/// The root directory that an engine's storage makes, 0:0 (docs/facts/runtimes.md section 14).
#[derive(Clone, Copy, Debug)]
pub struct RootDirectory {
    /// Its mode, octal.
    pub mode: u16,
    /// Whether another storage driver than the default one does otherwise.
    pub of_default_storage: bool,
}

/// Rules of containers that join others (docs/facts/runtimes.md section 12).
#[derive(Clone, Copy, Debug)]
pub struct JoinRules {
    /// Whether others may join the IPC namespace of a container that does not say so.
    pub ipc_by_default: bool,
    /// Whether whoever joins a network has its `/etc/hosts`, `/etc/hostname` and `/etc/resolv.conf`, too.
    pub network_files: bool,
    /// The flags that are added where the host's `/dev/shm` is mounted.
    pub host_flags: MountFlags,
}

impl JoinRules {
    /// An IPC namespace is lent where it is asked for, and the host's `/dev/shm` is bound as it is.
    pub(super) const ASKED: Self =
        Self { ipc_by_default: false, network_files: true, host_flags: MountFlags::NONE };
}

/// What a default mount is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum DefaultKind {
    /// procfs.
    Proc,
    /// sysfs: writable where privileged.
    Sys,
    /// A tmpfs with the usual devices.
    Devices,
    /// The container's own terminals.
    Terminals,
    /// A directory of this mode on a tmpfs or mqueue.
    Shared(u16),
    /// One file of the runtime's own, of this mode; read-only where the root is, if given so.
    File {
        /// Its mode, octal.
        mode: u16,
        /// The flags it gets where the root file system is read-only.
        under_read_only_root: MountFlags,
        /// Whether it is left out where there is no network.
        of_network: bool,
    },
    /// The same, made in the image's own directory: what is mounted around it hides it.
    Marker(u16),
    /// `/dev/console`, where there is a terminal: the process's, group 5, 0620.
    Console,
    /// A tmpfs 0:0 1777 that is there only where the root is read-only, with the image's content copied in.
    ScratchUnderReadOnlyRoot,
    /// A path of `/proc` or `/sys` hidden behind an empty read-only directory or `/dev/null`.
    Masked,
    /// A path of `/proc` mounted read-only.
    ReadOnly,
}

/// One row of the default mounts.
#[derive(Clone, Copy, Debug)]
pub struct DefaultRow {
    /// Where it is mounted.
    pub at: &'static str,
    /// What it is.
    pub kind: DefaultKind,
    /// Its flags.
    pub flags: MountFlags,
}

impl DefaultRow {
    /// A row.
    #[must_use]
    pub const fn new(at: &'static str, kind: DefaultKind, flags: MountFlags) -> Self {
        Self { at, kind, flags }
    }
}

/// `nosuid,nodev,noexec`.
pub(super) const QUIET: MountFlags = MountFlags::NO_SUID.with(MountFlags::NO_DEV).with(MountFlags::NO_EXEC);

/// No flags.
pub(super) const PLAIN: MountFlags = MountFlags::NONE;
