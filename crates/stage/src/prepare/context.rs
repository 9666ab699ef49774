//! What every step of the preparation looks at.

use mivask_model::ids::KernelOwner;
use mivask_model::mount::SourceId;

use super::drawn::Drawn;
use crate::namespace::{Starter, UnknownStarter};
use crate::runtime::{Profile, Runtime};
use crate::scene::{Scene, Workload};
use crate::sharing::Sharing;

/// What the preparation of volumes looks at.
#[derive(Clone, Copy)]
pub(super) struct Context<'a> {
    pub scene: &'a Scene,
    pub workload: &'a Workload,
    /// How many containers there are before it on its stage.
    pub first: usize,
    /// Which filesystem groups may reach which claim.
    pub sharing: &'a Sharing,
    pub runtime: Runtime,
    pub profile: &'a Profile,
    /// Who starts the engine, where that is not root.
    pub starter: &'a Result<Option<Starter>, UnknownStarter>,
    /// The host's tree, where it was given.
    pub host: Option<SourceId>,
    /// Whether somebody enters a container that runs already, to whom the engine adds nothing of its own.
    pub entering: bool,
    /// Who makes what is missing, in kernel ids.
    pub creator: KernelOwner,
    /// What stands for levels that engines draw.
    pub drawn: &'a Drawn,
}

impl<'a> Context<'a> {
    /// Who starts the engine, where that is not root; and why nobody can tell.
    pub(super) const fn starter_of(&self) -> (Option<&'a Starter>, Option<&'a UnknownStarter>) {
        match self.starter {
            Ok(starter) => (starter.as_ref(), None),
            Err(unknown) => (None, Some(unknown)),
        }
    }
}
