//! Why acts cannot be tried here.

use mivask_kernel::KernelError;
use mivask_trial::TrialError;

use crate::end::CommandError;

/// Why nothing is tried.
#[derive(Debug, thiserror::Error)]
pub(super) enum ConfirmError {
    /// A file system that acts cannot be tried on.
    #[error("{0}")]
    Filesystem(String),
    /// Acts cannot be tried on the kernel here.
    #[error("acts cannot be tried on this kernel: {0}")]
    Kernel(#[from] KernelError),
}

impl From<TrialError> for ConfirmError {
    fn from(error: TrialError) -> Self {
        match error {
            TrialError::Kernel(error) => Self::Kernel(error),
            TrialError::Scenario(text) => Self::Filesystem(text),
        }
    }
}

impl CommandError for ConfirmError {}
