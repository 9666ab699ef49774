//! What is read of a configuration; fields without a default must be there (OCI runtime specification, config.md).

use serde::Deserialize;

/// `config.json`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(super) struct Config {
    /// What runs.
    pub process: Option<Process>,
    /// Its root file system.
    pub root: Option<Root>,
    /// The host name inside.
    pub hostname: Option<String>,
    /// What is mounted, in order.
    pub mounts: Vec<Mount>,
    /// What only Linux has.
    pub linux: Option<Linux>,
}

/// `root`.
#[derive(Clone, Debug, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(super) struct Root {
    /// The folder, from the bundle's.
    #[serde(default)]
    pub path: String,
    /// Whether it is read-only.
    #[serde(default)]
    pub readonly: bool,
}

/// `process`.
#[derive(Clone, Debug, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(super) struct Process {
    /// Its ids; root's where nobody is named.
    #[serde(default)]
    pub user: User,
    /// Its working directory.
    pub cwd: String,
    /// The program and its arguments.
    #[serde(default)]
    pub args: Vec<String>,
    /// Its environment, as `NAME=value`.
    #[serde(default)]
    pub env: Vec<String>,
    /// Its capability sets.
    #[serde(default)]
    pub capabilities: LinuxCapabilities,
    /// Whether it has a terminal.
    #[serde(default)]
    pub terminal: bool,
    /// no_new_privs.
    #[serde(default)]
    pub no_new_privileges: Option<bool>,
    /// Its AppArmor profile.
    #[serde(default)]
    pub apparmor_profile: Option<String>,
    /// Its SELinux label.
    #[serde(default)]
    pub selinux_label: Option<String>,
}

/// `process.user`, in inside ids.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(super) struct User {
    /// User id.
    #[serde(default)]
    pub uid: u32,
    /// Group id.
    #[serde(default)]
    pub gid: u32,
    /// Its umask.
    #[serde(default)]
    pub umask: Option<u32>,
    /// Further group ids.
    #[serde(default)]
    pub additional_gids: Vec<u32>,
}

/// `process.capabilities`, by name.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(super) struct LinuxCapabilities {
    /// The bounding set.
    pub bounding: Vec<String>,
    /// The effective set.
    pub effective: Vec<String>,
    /// The inheritable set.
    pub inheritable: Vec<String>,
    /// The permitted set.
    pub permitted: Vec<String>,
    /// The ambient set.
    pub ambient: Vec<String>,
}

/// One of `mounts`.
#[derive(Clone, Debug, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(super) struct Mount {
    /// Where it is mounted.
    pub destination: String,
    /// The type of file system.
    #[serde(rename = "type", default)]
    pub type_: Option<String>,
    /// What is mounted.
    #[serde(default)]
    pub source: Option<String>,
    /// Its options.
    #[serde(default)]
    pub options: Vec<String>,
    /// Its id map.
    #[serde(default)]
    pub uid_mappings: Vec<LinuxIdMapping>,
    /// The same for groups.
    #[serde(default)]
    pub gid_mappings: Vec<LinuxIdMapping>,
}

/// One line of an id map.
#[derive(Clone, Debug, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(super) struct LinuxIdMapping {
    /// First inside id.
    #[serde(rename = "containerID", default)]
    pub container_id: u32,
    /// First outside id.
    #[serde(rename = "hostID", default)]
    pub host_id: u32,
    /// How many ids.
    #[serde(default)]
    pub size: u32,
}

/// `linux`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(super) struct Linux {
    /// The user namespace's map.
    pub uid_mappings: Vec<LinuxIdMapping>,
    /// The same for groups.
    pub gid_mappings: Vec<LinuxIdMapping>,
    /// Namespaces that are its own.
    pub namespaces: Vec<LinuxNamespace>,
    /// Paths that are hidden.
    pub masked_paths: Vec<String>,
    /// Paths that are read-only.
    pub readonly_paths: Vec<String>,
    /// The SELinux label of its mounts.
    pub mount_label: Option<String>,
}

/// One of `linux.namespaces`.
#[derive(Clone, Debug, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(super) struct LinuxNamespace {
    /// `user`, `mount` and so on.
    #[serde(rename = "type")]
    pub type_: String,
}
