//! What descriptions ask of AppArmor.

use mivask_model::fact::Fact;

/// The profile of a container.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub enum ProfileAsked {
    /// Nothing is asked for: what its engine gives, where an engine makes it.
    #[default]
    Engine,
    /// The engine's own, by name.
    Default,
    /// None: `unconfined`.
    Unconfined,
    /// One of this name on the host.
    Own(Fact<String>),
}

impl ProfileAsked {
    /// What the word of a description means: `unconfined`, what engines call their own, or a name.
    #[must_use]
    pub fn named(word: Fact<String>) -> Self {
        match word.value.as_str() {
            "unconfined" => Self::Unconfined,
            "" => Self::Engine,
            "docker-default" | "cri-containerd.apparmor.d" | "crio-default" => Self::Default,
            podman if podman.starts_with("containers-default-") => Self::Default,
            _ => Self::Own(word),
        }
    }
}
