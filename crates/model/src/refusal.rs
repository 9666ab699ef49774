//! Why something described never runs.

use std::fmt;

use crate::fact::Provenance;

/// Why a container or its whole pod never runs.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Refusal {
    /// The status a user meets.
    pub class: RefusalClass,
    /// What is wrong, in one sentence.
    pub reason: String,
    /// The fact that causes it.
    pub from: Provenance,
    /// Whether every container of the pod is affected.
    pub whole_pod: bool,
}

/// The status that a user meets.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum RefusalClass {
    /// An engine or runtime refuses to start it.
    StartRefused,
    /// The runtime fails while it starts it.
    StartError,
    /// The pod itself cannot be made.
    FailedCreatePodSandBox,
    /// The kubelet refuses its configuration.
    CreateContainerConfigError,
    /// The runtime refuses to create it.
    CreateContainerError,
    /// The kubelet cannot mount a volume, so the pod waits.
    FailedMount,
    /// Its image cannot be built.
    BuildRefused,
}

impl RefusalClass {
    /// The status as an engine or a cluster shows it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::StartRefused => "start refused",
            Self::StartError => "StartError",
            Self::FailedCreatePodSandBox => "FailedCreatePodSandBox",
            Self::CreateContainerConfigError => "CreateContainerConfigError",
            Self::CreateContainerError => "CreateContainerError",
            Self::FailedMount => "FailedMount",
            Self::BuildRefused => "build refused",
        }
    }
}

impl fmt::Display for RefusalClass {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}
