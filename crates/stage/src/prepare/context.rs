//! What every step of the preparation looks at.

use mivask_model::ids::KernelOwner;
use mivask_model::mount::SourceId;

use crate::runtime::Profile;
use crate::scene::{Scene, Workload};
use crate::sharing::Sharing;

/// What the preparation of volumes looks at.
#[derive(Clone, Copy)]
pub(super) struct Context<'a> {
    pub scene: &'a Scene,
    pub workload: &'a Workload,
    /// Which filesystem groups may reach which claim.
    pub sharing: &'a Sharing,
    pub profile: &'a Profile,
    /// The host's tree, where it was given.
    pub host: Option<SourceId>,
    /// Who makes what is missing, in kernel ids.
    pub creator: KernelOwner,
}
