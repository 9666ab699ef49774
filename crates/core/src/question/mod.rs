//! The questions people ask, each built on [`decide`](crate::decide::decide).
//!
//! Answers are plain data; turning them into text or JSON is somebody else's work.

mod access;
mod admits;
mod ask;
mod confirm;
mod contrast;
mod decode;
mod facts;
mod handoff;
mod imprints;
pub(crate) mod joined;
mod listing;
mod mounts;
mod reached;
mod rehearse;
mod remarks;
mod sweep;

pub use access::{AccessRow, Cells, access, default_paths};
pub use admits::{Admission, Condition, admissions};
pub(crate) use ask::settle;
pub use ask::{Answer, Dependence, Outcome, ask, ask_as};
pub use confirm::{Comparison, Held, Observed, UNSEEN_ACL, compare, unsettled};
pub use contrast::{Contrast, FileChange, MOST_COMPARED, OutcomeChange, Verdict, contrast};
pub use decode::{Decoded, decode};
pub use facts::{PathFacts, facts_at, facts_of, free_path};
pub use handoff::{Creation, Deed, Done, Hand, Handoff, Why, handoffs, why};
pub use imprints::{ImprintRow, imprints};
pub use listing::{Line, Listed, Listing, entries, listings};
pub use mounts::{MountRow, mounts};
pub use reached::{Reached, reached};
pub use rehearse::{Rehearsal, RehearsalError, Step};
pub use remarks::{Remark, remarks};
pub use sweep::{
    Blocker, Cell, Column, Ending, Endings, Event, Overview, Share, SweepError, Swept, follow, overview,
    sweep,
};
