//! What a scene says of AppArmor on its host.

use std::path::Path;

use schemars::JsonSchema;
use serde::Deserialize;

use crate::files::FileReader;
use crate::policies::{KERNEL, apparmor_here};

/// Whether AppArmor is on.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ApparmorWord {
    /// As on this machine.
    Live,
    /// It is.
    Enabled,
    /// It is not there.
    Disabled,
}

impl ApparmorWord {
    /// Whether it is on.
    pub(super) fn is_enabled(self, files: &dyn FileReader) -> bool {
        match self {
            Self::Live => apparmor_here(files, Path::new(KERNEL)),
            Self::Enabled => true,
            Self::Disabled => false,
        }
    }
}
