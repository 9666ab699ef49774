//! The questions people ask, each built on [`decide`](crate::decide::decide).
//!
//! Answers are plain data; turning them into text or JSON is somebody else's work.

mod access;
mod ask;
mod confirm;
mod facts;
mod imprints;
mod mounts;
mod remarks;
mod sweep;

pub use access::{AccessRow, Cells, access, default_paths};
pub use ask::{Answer, Dependence, Outcome, ask};
pub use confirm::{Comparison, Held, Observed, UNSEEN_ACL, compare, unsettled};
pub use facts::{PathFacts, facts_at, facts_of};
pub use imprints::{ImprintRow, imprints};
pub use mounts::{MountRow, mounts};
pub use remarks::{Remark, remarks};
pub use sweep::{
    Blocker, Cell, Column, Ending, Endings, Event, Overview, Share, SweepError, Swept, follow, overview,
    sweep,
};
