//! Predictions beside the running kernel.
//!
//! [`hold`] takes a stage and acts, lets `mivask-kernel` do them for real, and says where prediction and kernel
//! part. [`random`] makes scenarios of its own and, where one fails, makes it as small as it goes
//! ([`shrink`]), so that what is left is a scene file that shows the difference.

#![forbid(unsafe_code)]

pub mod hold;
pub mod random;
pub mod scenario;
pub mod shrink;

use mivask_kernel::KernelError;

/// Why a trial cannot go on.
#[derive(Debug, thiserror::Error)]
pub enum TrialError {
    /// The kernel side cannot be set up.
    #[error(transparent)]
    Kernel(#[from] KernelError),
    /// A scenario this crate made is not read back, which is a mistake in here.
    #[error("a scenario of ours cannot be read: {0}")]
    Scenario(String),
}
