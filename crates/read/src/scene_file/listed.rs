//! What a scene lists under `workloads`.

use schemars::JsonSchema;
use serde::Deserialize;

/// A manifest, a Compose file, a configuration, a folder of these; or Compose files that are merged, later ones on top.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(untagged, expecting = "a file or folder, or a list of Compose files that are merged")]
pub enum Listed {
    /// One file or folder.
    One(String),
    /// Compose files of one project.
    Merged(Vec<String>),
}
