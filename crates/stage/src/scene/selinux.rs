//! SELinux on the host, and what descriptions ask of it.

use std::sync::Arc;

use mivask_label::Policy;
use mivask_model::fact::{Fact, Provenance};

/// What is known of SELinux on the host.
#[derive(Clone, Debug)]
pub struct Selinux {
    /// Whether it decides at all, and how.
    pub mode: SelinuxMode,
    /// Its policy, with the booleans as they are set; `None` if not given.
    pub policy: Option<Arc<Policy>>,
    /// Where it was given.
    pub from: Provenance,
}

/// Whether SELinux decides.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum SelinuxMode {
    /// It refuses what the policy does not allow.
    Enforcing,
    /// It logs that, and lets it happen.
    Permissive,
    /// It is not there: labels mean nothing.
    Disabled,
}

/// What a description asks of a container's label.
#[derive(Clone, Default, Debug)]
pub struct LabelAsked {
    /// The whole label of the process, where it is given.
    pub whole: Option<Fact<String>>,
    /// The label of its root file system and of what the runtime mounts, where that is given (`mountLabel`).
    pub files: Option<Fact<String>>,
    /// Its user, in place of the engine's.
    pub user: Option<Fact<String>>,
    /// Its role, likewise.
    pub role: Option<Fact<String>>,
    /// Its type, likewise.
    pub type_: Option<Fact<String>>,
    /// Its level, in place of one that the engine draws.
    pub level: Option<Fact<String>>,
    /// Where the engine is told to leave the container without a label of its own.
    pub disabled: Option<Provenance>,
    /// Where it shares the host's processes, of a runtime of which it is not known what that makes of its label.
    pub unsettled: Option<Provenance>,
    /// What is asked in words, such as `SELinux with these seLinuxOptions`, where a host of which nothing is said could refuse
    /// more for it.
    pub words: Option<Fact<String>>,
}
