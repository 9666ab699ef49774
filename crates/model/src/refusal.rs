//! Why something described never runs.

use crate::fact::Provenance;

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
