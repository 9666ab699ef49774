//! Who an actor is: numbers, capabilities, umask, and where each came from.

mod capability_sets;
mod credentials;
mod groups;
mod kubernetes;
mod plain;
mod process;
mod untold;
mod workload;

use std::sync::Arc;

pub use capability_sets::{CRI_DEFAULT, DeclaredCapabilities, IgnoredCapability, set_in_words};
pub use credentials::Credentials;
pub use kubernetes::kubernetes_identity;
pub use plain::plain_identity;
pub use process::process_identity;
pub use workload::{
    ContainerSecurity, GroupName, ImageFacts, Knowledge, PlainIdentity, PodSecurity, ProcessIdentity,
};

use crate::caps::CapabilitySet;
use crate::fact::{Provenance, Unknown};
use crate::ids::{InsideGid, InsideUid, UserNamespace};
use crate::mode::Mode;

/// One process identity, in inside ids.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Identity {
    /// User id.
    pub uid: InsideUid,
    /// Primary group id.
    pub gid: InsideGid,
    /// Supplementary groups as the kernel lists them in `/proc/PID/status`: sorted, and with
    /// the primary group repeated where the runtime repeats it.
    pub groups: Vec<InsideGid>,
    /// Capabilities in force.
    pub effective: CapabilitySet,
    /// Capabilities the process may put in force.
    pub permitted: CapabilitySet,
    /// Upper bound of what it can regain by execve.
    pub bounding: CapabilitySet,
    /// Bits taken from the mode of what it creates, octal.
    pub umask: Mode,
    /// Whether execve can no longer add privileges.
    pub no_new_privileges: bool,
    /// How its ids relate to the kernel's.
    pub namespace: Arc<UserNamespace>,
}

/// One field of an identity with its value in words and its provenance.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct IdentityFact {
    /// `image user`, `uid`, `name`, `gid`, `group`, `bounding`, `capability`, `effective`, `umask`,
    /// `no-new-privileges`.
    pub field: &'static str,
    /// The value as text.
    pub value: String,
    /// Where it came from.
    pub from: Provenance,
}

/// Why a container or its whole pod never runs.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Refusal {
    /// The status a user meets, such as `CreateContainerConfigError`.
    pub class: &'static str,
    /// What is wrong, in one sentence.
    pub reason: String,
    /// The fact that causes it.
    pub from: Provenance,
    /// Whether every container of the pod is affected.
    pub whole_pod: bool,
}

/// The identities an actor may have; more than one where a fact is missing.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Resolved {
    /// Each possibility: what must hold for it (empty where it is the only one), and the identity.
    pub possible: Vec<(Arc<str>, Identity)>,
    /// The missing fact that tells them apart.
    pub question: Option<Unknown>,
    /// The account name of the user id, where one is known.
    pub name: Option<String>,
    /// The facts behind it, field by field.
    pub facts: Vec<IdentityFact>,
    /// Why it never runs.
    pub refusal: Option<Refusal>,
    /// What was taken for granted.
    pub assumptions: Vec<Arc<str>>,
}
