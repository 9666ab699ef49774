//! The scene file as it is written; its JSON Schema comes from these types.

use std::collections::BTreeMap;
use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer};

use super::apparmor_section::ApparmorWord;
use super::listed::Listed;
use super::people_section::PeopleSection;
use super::selinux_section::SelinuxSection;
use super::tree_source::TreeSource;
use crate::yaml::RawText;

/// Everything known about workloads, images, volumes and the host. Every path is relative to this file.
/// What is left out is unknown, not guessed.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct SceneFile {
    /// The version of this format: 1.
    pub scene: u32,
    /// What the scene is about.
    pub title: Option<String>,
    /// Manifests, Compose files, OCI configurations, or folders of them; a list within the list is Compose files
    /// that are merged.
    #[serde(default)]
    pub workloads: Vec<Listed>,
    /// The container runtime whose rules apply. Left out: containerd for Kubernetes objects, docker for Compose
    /// files, runc for OCI configurations; containers listed here then have exactly the mounts they list.
    pub runtime: Option<RuntimeName>,
    /// What builds the images that the scene builds. Left out: buildkit with docker, buildah with podman.
    pub builder: Option<BuilderName>,
    /// Ids that the platform gives to pods that name none, as some do from a range of each namespace.
    #[serde(default)]
    pub assigned: AssignedSection,
    /// The machine the containers run on.
    #[serde(default)]
    pub host: HostSection,
    /// Facts about images, by the name workloads use.
    #[serde(default)]
    pub images: BTreeMap<String, ImageSection>,
    /// Where images are looked for of which this file does not tell everything, in this order: `registry`,
    /// `registry:HOST[:PORT][/PREFIX]`, `docker`, `podman`, or a folder of archives and layouts. Nowhere where left out.
    #[serde(default)]
    pub images_from: Vec<String>,
    /// Facts about volumes, by claim name or the name mounts below use.
    #[serde(default)]
    pub volumes: BTreeMap<String, VolumeSection>,
    /// Containers, when there is no manifest.
    #[serde(default)]
    pub containers: Vec<ContainerSection>,
    /// The umasks that programs of described containers set, octal, by container or `WORKLOAD/CONTAINER`: no field of a
    /// manifest says one.
    #[serde(default)]
    pub umasks: BTreeMap<String, RawText>,
    /// How wide paths may be at most, for programs that refuse keys and data directories that are wider:
    /// `[ACTOR] PATH at-most MODE [owned-by UID[:GID]]` each.
    #[serde(default)]
    pub at_most: Vec<String>,
    /// What `exposure` finds and is meant so.
    #[serde(default)]
    pub accept: Vec<AcceptSection>,
    /// What is to hold, for `uphold`: a file of expectations, the lines themselves as one text, or a list of lines.
    pub expect: Option<ExpectSection>,
}

/// Expectations: a file of them, their text (anything of several lines), or a list of them.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(untagged, expecting = "a file of expectations, their text, or a list of lines")]
pub enum ExpectSection {
    /// A file, or several lines as one text.
    Text(String),
    /// One each.
    Lines(Vec<String>),
}

/// A finding that is meant.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct AcceptSection {
    /// Its name, such as `world-writable`.
    pub finding: String,
    /// The path inside, or a pattern such as `/spool/**`; the actor's name for `umask`. Every path where left out.
    pub path: Option<String>,
    /// Why it is meant.
    pub reason: String,
}

/// A container runtime.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RuntimeName {
    /// containerd 2.x with runc.
    Containerd,
    /// containerd 1.6 with runc 1.1, as measured.
    #[serde(rename = "containerd-1.6")]
    Containerd16,
    /// CRI-O, by its documentation.
    CriO,
    /// Docker with runc 1.1, as measured.
    Docker,
    /// Podman with crun 1.8, as measured.
    Podman,
    /// runc 1.1.
    Runc,
    /// crun 1.8.
    Crun,
}

/// A builder of images.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum BuilderName {
    /// BuildKit, Docker's usual one.
    Buildkit,
    /// The builder of Docker's daemon without it (`DOCKER_BUILDKIT=0`).
    Classic,
    /// Podman's.
    Buildah,
}

/// Ids given to pods whose manifest names none.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct AssignedSection {
    /// In place of a missing `runAsUser`.
    pub user: Option<u32>,
    /// In place of a missing `runAsGroup`.
    pub group: Option<u32>,
    /// In place of a missing `fsGroup`.
    pub filesystem_group: Option<u32>,
}

/// The machine the containers run on.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct HostSection {
    /// What is at the sources of host paths.
    pub tree: Option<TreeSource>,
    /// The same in parts: what is at single directories of the host, by their absolute paths.
    #[serde(default)]
    pub trees: BTreeMap<String, TreeSource>,
    /// What is mounted where on it: the path of a copy of `/proc/self/mountinfo`, `/proc/mounts` or `/etc/fstab`.
    /// Binds show the options of the mount underneath.
    pub mounts: Option<String>,
    /// Its account files: who people on it are, and which numbers are taken. They decide nothing in a container.
    pub accounts: Option<AccountsSection>,
    /// Kernel settings, such as `fs.protected_regular: 1`.
    #[serde(default)]
    pub sysctls: BTreeMap<String, u8>,
    /// Who works on it: accounts of its own, or users by number, each an actor who sees the host's files.
    #[serde(default)]
    pub people: PeopleSection,
    /// The user namespace containers live in where they state none of their own, as under a remapped daemon.
    pub user_namespace: Option<IdMapSection>,
    /// Who starts the engines, by login name or user id: containers of somebody other than root have the ids of that user.
    pub started_by: Option<RawText>,
    /// Whose subordinate ids a daemon of root's gives its containers, as Docker's `userns-remap` says it: `default` (the user dockremap),
    /// a login name or a user id, maybe with a group behind a colon.
    pub remapped_to: Option<RawText>,
    /// Its `/etc/subuid`: the path of a copy, or the text itself.
    pub subuid: Option<String>,
    /// Its `/etc/subgid`, likewise.
    pub subgid: Option<String>,
    /// What SELinux does there: `disabled`, `permissive` or `enforcing`, or its policy with the booleans. Left out: not known,
    /// and taken to refuse nothing.
    pub selinux: Option<SelinuxSection>,
    /// Whether AppArmor is on there: then containers of engines have the profile that their engine makes. Left out: not known.
    pub apparmor: Option<ApparmorWord>,
}

/// Lines of an id map, three numbers each: where a range starts on the near side, where on the far side, and how
/// many ids it has. For a user namespace that is INSIDE OUTSIDE COUNT, for a mount DISK SHOWN COUNT.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct IdMapSection {
    /// User ids; every id is itself where left out.
    #[serde(default)]
    pub uids: Vec<RawText>,
    /// Group ids; every id is itself where left out.
    #[serde(default)]
    pub gids: Vec<RawText>,
}

/// Facts about one image.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ImageSection {
    /// Where the image is: an OCI layout, an archive of one or one that an engine saved, a folder or an archive with
    /// its root file system. It tells the files and accounts, the first three also USER, VOLUME, WORKDIR and the
    /// program; what is beside it here wins.
    pub from: Option<String>,
    /// Which platform of an image for several, such as `linux/arm64`; this machine's where left out.
    pub platform: Option<String>,
    /// Its USER; `null` where it has none. Left out: unknown.
    #[serde(default, deserialize_with = "given")]
    pub user: Option<Option<RawText>>,
    /// Its account files; `null` where it has neither. Left out: unknown.
    #[serde(default, deserialize_with = "given")]
    pub accounts: Option<Option<AccountsSection>>,
    /// Its files. Left out: unknown.
    pub tree: Option<TreeSource>,
    /// The absolute paths of its `VOLUME`s.
    #[serde(default)]
    pub volumes: Vec<String>,
    /// Its working directory.
    pub working_directory: Option<String>,
    /// The program it starts, the first word of its ENTRYPOINT or CMD: a path, or a name that is looked for in `PATH`.
    pub program: Option<String>,
}

/// Account files: a path, or the text itself (anything with a `:` in it); `null` where there is none.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct AccountsSection {
    /// The passwd file.
    pub passwd: Option<String>,
    /// The group file.
    pub group: Option<String>,
}

/// Facts about one volume.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct VolumeSection {
    /// Its filesystem type, such as `ext4`.
    pub filesystem: Option<String>,
    /// Mount options: flags (ro, noexec, nosuid, nodev, nosymfollow) and those of the filesystem, such as `uid=7101`.
    #[serde(default)]
    pub options: Vec<String>,
    /// How an NFS server exports it.
    pub export: Option<ExportSection>,
    /// What is on it. Left out: unknown.
    pub tree: Option<TreeSource>,
    /// Whether the kubelet applies the pod's filesystem group to it. Left out: unknown.
    pub group_ownership: Option<GroupOwnership>,
    /// Whether the filesystem itself (not only a mount) is read-only.
    #[serde(default)]
    pub read_only_filesystem: bool,
    /// The SELinux label of everything on it that says none itself, such as `system_u:object_r:container_file_t:s0`.
    pub label: Option<String>,
}

/// How an NFS server exports a volume.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ExportSection {
    /// Whose ids the server replaces. Left out: unknown.
    pub squash: Option<SquashWord>,
    /// `UID:GID` they are replaced with; 65534:65534 where left out.
    pub anon: Option<RawText>,
    /// Whether the server looks up groups itself instead of taking the first sixteen of the client's.
    #[serde(default)]
    pub manages_groups: bool,
}

/// Whose ids an NFS server replaces.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SquashWord {
    /// Root's.
    Root,
    /// Everyone's.
    All,
    /// No one's.
    None,
}

/// Whether the filesystem-group step reaches a volume.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum GroupOwnership {
    /// As for local volumes and most CSI drivers.
    Apply,
    /// As for hostPath and NFS volumes.
    Skip,
}

/// One container described here.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ContainerSection {
    /// Its name: the actor in acts.
    pub name: String,
    /// The image it runs, a key of `images`.
    pub image: Option<String>,
    /// The program it starts: a path, or a name that is looked for in `PATH`; the image's where left out.
    pub program: Option<String>,
    /// `UID`, `UID:GID` or names; the image's USER where left out.
    pub user: Option<RawText>,
    /// Added supplementary group ids.
    #[serde(default)]
    pub groups: Vec<u32>,
    /// A group that is also given to volumes with `group-ownership: apply`.
    pub filesystem_group: Option<u32>,
    /// Capabilities added to and dropped from the default set.
    #[serde(default)]
    pub capabilities: CapabilitiesSection,
    /// Exactly the capabilities in force, or `all`; wins over everything derived.
    pub effective_capabilities: Option<CapabilityList>,
    /// Octal.
    pub umask: Option<RawText>,
    /// Whether execve cannot add privileges.
    pub no_new_privileges: Option<bool>,
    /// Whether the root filesystem is mounted read-only.
    #[serde(default)]
    pub read_only_root: bool,
    /// The user namespace the process lives in; the host's where left out. Its root also owns the image's files.
    pub user_namespace: Option<IdMapSection>,
    /// Every capability for root, every device.
    pub privileged: Option<bool>,
    /// The SELinux label of its process, such as `system_u:system_r:container_t:s0:c12,c40`.
    pub label: Option<String>,
    /// Its AppArmor profile: `unconfined`, what an engine calls its own, such as `docker-default`, or one of the host's, of which
    /// nothing more is known. None where left out.
    pub apparmor: Option<String>,
    /// Its mounts.
    #[serde(default)]
    pub mounts: Vec<MountSection>,
}

/// Capability names without the `CAP_` prefix.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct CapabilitiesSection {
    /// Added.
    #[serde(default)]
    pub add: Vec<String>,
    /// Dropped.
    #[serde(default)]
    pub drop: Vec<String>,
}

/// Capability names, or `all`.
#[derive(Debug, JsonSchema)]
#[serde(untagged)]
pub enum CapabilityList {
    /// The word `all`.
    All(String),
    /// Names.
    Names(Vec<String>),
}

/// One mount of a container described here.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct MountSection {
    /// A key of `volumes`.
    pub volume: String,
    /// The absolute path inside; `/` replaces the image's root.
    pub at: String,
    /// Whether this mount is read-only.
    #[serde(default)]
    pub read_only: bool,
    /// Flags: ro, noexec, nosuid, nodev, nosymfollow.
    #[serde(default)]
    pub options: Vec<String>,
    /// The part of the volume that shows.
    pub sub_path: Option<String>,
    /// The mount's id map, from stored ids to those shown (before any user namespace of the container).
    pub id_map: Option<IdMapSection>,
}

impl<'de> Deserialize<'de> for CapabilityList {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = CapabilityList;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a list of capability names, or `all`")
            }
            fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<CapabilityList, E> {
                Ok(CapabilityList::All(text.to_owned()))
            }
            fn visit_seq<A: serde::de::SeqAccess<'de>>(
                self,
                mut items: A,
            ) -> Result<CapabilityList, A::Error> {
                let mut names = Vec::new();
                while let Some(name) = items.next_element()? {
                    names.push(name);
                }
                Ok(CapabilityList::Names(names))
            }
        }
        deserializer.deserialize_any(Visitor)
    }
}

/// Keeps "left out" apart from `null`.
fn given<'de, T: Deserialize<'de>, D: Deserializer<'de>>(
    deserializer: D,
) -> Result<Option<Option<T>>, D::Error> {
    Option::<T>::deserialize(deserializer).map(Some)
}
