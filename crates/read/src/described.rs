//! What a reading comes to.

use mivask_core::policy::Policy;
use mivask_core::scene::Scene;

/// A description that was read.
#[derive(Clone, Debug, Default)]
pub struct Described {
    /// The facts.
    pub scene: Scene,
    /// What a scene file demands; empty where the input is not a scene file.
    pub policy: Policy,
}
