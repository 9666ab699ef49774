//! A dataset of many volumes: Apache Parquet, a row an entry, for engines that answer SQL (docs/formats/dataset.md).
//!
//! Rows are written as they come, in memory that does not grow with them. What decides about an entry is in two small tables
//! beside the rows: classes, of which most disks have a few hundred, and ways, the chains of directories above.
//! Both are named by digests of what they say, so that machines that know nothing of each other write to one dataset.
//!
//! Without the feature `parquet` nothing is written, and [`is_built_in`] says so.

#[cfg(feature = "parquet")]
mod capabilities;
#[cfg(feature = "parquet")]
mod class;
mod date;
#[cfg(feature = "parquet")]
mod digest;
#[cfg(feature = "parquet")]
mod from_tree;
mod name;
#[cfg(feature = "parquet")]
mod read;
#[cfg_attr(not(feature = "parquet"), expect(dead_code, reason = "no volume is read"))]
mod regions;
#[cfg(feature = "parquet")]
mod rows;
#[cfg(feature = "parquet")]
mod tables;
mod text;
mod unnamed;
#[cfg(feature = "parquet")]
mod verdict_tables;
mod verdicts;
mod volumes;
#[cfg(feature = "parquet")]
mod ways;
#[cfg(feature = "parquet")]
mod writer;

use std::io;
use std::path::{Path, PathBuf};

use mivask_model::tree::Tree;

#[cfg(feature = "parquet")]
pub(crate) use class::{Assumed, Class, Holds};
pub use date::{is_date, today};
pub use name::{NameError, VolumeName};
pub use regions::Regions;
pub use text::bytes;
pub use unnamed::{Begin, Unnamed};
pub use verdicts::{ActRow, ActorRow, PairRows, RegionRow, Verdicts, view};
pub use volumes::{Apart, Pair, Reader, Volume, days, volumes};
#[cfg(feature = "parquet")]
pub(crate) use ways::WayId;
#[cfg(feature = "parquet")]
pub(crate) use writer::{Entry, Writer};

/// Whether this build can write one: Parquet is a feature.
#[must_use]
pub const fn is_built_in() -> bool {
    cfg!(feature = "parquet")
}

/// Where rows go.
#[derive(Clone, Debug)]
pub struct Target {
    /// The folder of the dataset.
    pub folder: PathBuf,
    /// The volume.
    pub volume: VolumeName,
    /// The day, `YYYY-MM-DD`.
    pub date: String,
    /// How files are begun.
    pub begin: Begin,
}

/// What was written.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Written {
    /// Rows of entries.
    pub rows: u64,
    /// Distinct classes.
    pub classes: usize,
    /// Distinct ways.
    pub ways: usize,
    /// Bytes of all three files.
    pub bytes: u64,
}

/// Writes a tree that is in memory into the dataset, in the place of what was there of that volume and day.
///
/// # Errors
/// A file cannot be written, or this build cannot write any.
pub fn write_tree(target: &Target, tree: &Tree) -> io::Result<Written> {
    #[cfg(feature = "parquet")]
    {
        let mut writer = Writer::new(target.clone())?;
        from_tree::write(&mut writer, tree)?;
        writer.finish(tree.unrecorded())
    }
    #[cfg(not(feature = "parquet"))]
    {
        let _ = (target, tree);
        Err(io::ErrorKind::Unsupported.into())
    }
}

/// Writes the tables into `folder`, each in the place of the one that was there; that of actors, which the others are looked up from, last.
///
/// # Errors
/// A file cannot be written, or this build cannot write any.
pub fn write_verdicts(folder: &Path, all: &Verdicts, begin: Begin) -> io::Result<u64> {
    #[cfg(feature = "parquet")]
    {
        verdict_tables::write((folder, begin), all)
    }
    #[cfg(not(feature = "parquet"))]
    {
        let _ = (folder, all, begin);
        Err(io::ErrorKind::Unsupported.into())
    }
}
