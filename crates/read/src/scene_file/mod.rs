//! The scene file: our own format that ties workloads, images, volumes and the host together.

mod apparmor_section;
mod containers;
mod convert;
mod expect;
mod exposure;
mod facts;
mod id_map;
mod listed;
mod people;
mod people_section;
mod selinux;
mod selinux_section;
mod started_by;
mod tree;
mod tree_source;
mod types;
mod umasks;

pub(crate) use convert::described;
pub use convert::read_scene;
pub use facts::over;
pub use types::SceneFile;

pub use crate::documents::is_scene;
