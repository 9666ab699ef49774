//! The scene file: our own format that ties workloads, images, volumes and the host together.

mod containers;
mod convert;
mod expect;
mod exposure;
mod facts;
mod id_map;
mod listed;
mod raw_text;
mod tree;
mod tree_source;
mod types;

pub(crate) use convert::described;
pub use convert::read_scene;
pub(crate) use raw_text::RawText;
pub use types::SceneFile;

use crate::yaml::Node;

/// Whether a document is a scene file.
#[must_use]
pub fn is_scene(node: &Node) -> bool {
    node.get("scene").is_some()
}
