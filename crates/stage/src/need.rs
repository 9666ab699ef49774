//! What has to be so for a container to start, and is not known.

use std::sync::Arc;

use mivask_model::fact::{Provenance, Unknown};

/// One such thing: if it is otherwise, the container never runs.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Need {
    /// What has to be so, such as `/c/d is in claim data`.
    pub when: Arc<str>,
    /// What keeps it from starting otherwise.
    pub otherwise: Arc<str>,
    /// The missing fact, and what the user can add.
    pub unknown: Unknown,
    /// Where what needs it was asked for.
    pub from: Provenance,
}
