//! The questions people ask, each built on [`decide`](crate::decide::decide).
//!
//! Answers are plain data; turning them into text or JSON is somebody else's work.

mod access;
mod ask;
mod facts;
mod imprints;
mod mounts;

pub use access::{AccessRow, Cells, access, default_paths};
pub use ask::{Answer, Dependence, Outcome, ask};
pub use facts::{PathFacts, facts_at};
pub use imprints::{ImprintRow, imprints};
pub use mounts::{MountRow, mounts};
