//! User namespaces: what a description asks for, who starts the engine, and the ids that come of it
//! (docs/facts/runtimes.md section 7, docs/facts/rootless.md).

mod asked;
mod auto;
mod lines;
mod remapped;
mod resolve;
mod starter;

pub use asked::{Auto, BadMode, KeepId, NamespaceAsked, mode};
pub use lines::{BadLine, MapLine, map_line, overlap};
pub use remapped::remapped;
pub use resolve::{Engine, Space, space};
pub use starter::{Range, Starter, SubordinateIds, SubordinateLine, UnknownStarter, starter, subordinate};
