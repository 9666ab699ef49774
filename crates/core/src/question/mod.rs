//! The questions people ask, each built on [`decide`](mivask_rules::decide::decide).
//!
//! Answers are plain data; turning them into text or JSON is someone else's work.

mod access;
mod admits;
mod ask;
mod cluster_gap;
mod confirm;
pub(crate) mod contrast;
mod decode;
mod facts;
mod imprints;
pub(crate) mod joined;
pub(crate) mod labels;
mod listing;
mod mounts;
mod nearest;
mod nobody;
mod reached;
mod remark;
mod remarks;
mod rootless;
mod start;
mod sweep;
mod why;

pub use access::{AccessRow, access, default_paths, default_rows};
pub use admits::{Admission, Condition, Ids, admissions};
pub(crate) use ask::explored;
pub use ask::{Answer, ask, ask_as};
pub use confirm::{Comparison, Held, compare, unsettled};
pub use contrast::{CellOutcome, Contrast, FileChange, MOST_COMPARED, OutcomeChange, contrast};
pub use decode::{Decoded, common_modes, decode};
pub use facts::{PathFacts, facts_at, facts_of, free_path};
pub use imprints::{ImprintRow, imprints};
pub use listing::{Line, Listed, Listing, entries, listing_of, listings};
pub use mounts::{MountRow, mounts};
pub use reached::{Reached, reached};
pub use remark::Remark;
pub use remarks::remarks;
pub use sweep::{
    Blocker, Cell, Column, Ending, Endings, Event, Overview, PerColumn, Share, SweepError, Swept, ending_at,
    follow, overview, summed, sweep,
};
pub use why::{Why, why};
