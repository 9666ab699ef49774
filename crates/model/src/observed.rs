//! What a kernel was seen to do.

use crate::outcome::{Effect, Errno};

/// What the kernel did.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Observed {
    /// The call succeeded, and left this.
    Allowed(Effect),
    /// The call failed with an errno the model knows.
    Denied(Errno),
    /// The call failed with any other errno.
    Other(i32),
}

/// Stands for the ACL in an observed [`Imprint`](crate::outcome::Imprint) that could not be looked at any more, because the act closed the
/// way there.
pub const UNSEEN_ACL: &str = "?";
