//! Volumes of a dataset, their days, and what is read of them.

use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Arc;

use mivask_model::tree::{InodeId, Tree};

use super::VolumeName;
use super::date::is_date;
use super::regions::Regions;
use crate::error::DiskError;

/// The entries of one class at the end of one way, in one region of a volume.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Pair {
    /// The inode that stands for them in the tree.
    pub inode: InodeId,
    /// The number of the region.
    pub region: usize,
    /// The number of the way.
    pub way: i64,
    /// The number of the class.
    pub class: i64,
    /// How many there are.
    pub entries: u64,
}

/// A volume of one day, as a small tree: one directory for each way, one entry in it for each class that occurs there.
///
/// Every act ends on such an entry as it does on all entries of that class at the end of that way, whatever their names are, so that
/// answers about thousands of pairs are answers about all rows. Only regions have their own names in it.
#[derive(Debug)]
#[non_exhaustive]
pub struct Volume {
    /// The tree of its pairs.
    pub tree: Arc<Tree>,
    /// What its inodes stand for, in their order.
    pub pairs: Vec<Pair>,
    /// The number of the class of each inode, by its number in the tree; 0 of what only fills a directory.
    pub classes: Vec<i64>,
    /// The interpreters of its scripts.
    pub interpreters: BTreeSet<Vec<u8>>,
    /// The regions that were asked for, and those that links on the way to them lead to.
    pub regions: Regions,
    /// The day.
    pub date: String,
}

/// The names of all volumes, in order; what is in the folder and is none is passed over.
///
/// # Errors
/// The folder is no dataset, or cannot be read.
pub fn volumes(folder: &Path) -> Result<Vec<VolumeName>, DiskError> {
    let place = folder.join("entries");
    let names = listed(&place).map_err(|error| {
        DiskError::io(&place.display().to_string(), &error)
            .with_help("name the folder that `survey --to dataset -o` wrote to")
    })?;
    let mut all: Vec<VolumeName> =
        names.iter().filter_map(|name| name.strip_prefix("volume=")?.parse().ok()).collect();
    all.sort_unstable();
    Ok(all)
}

/// The days of a volume, the first first.
///
/// # Errors
/// The dataset has no such volume, or cannot be read.
pub fn days(folder: &Path, volume: &VolumeName) -> Result<Vec<String>, DiskError> {
    let place = folder.join("entries").join(format!("volume={}", volume.as_str()));
    let names = listed(&place).map_err(|error| DiskError::io(&place.display().to_string(), &error))?;
    let days = names.iter().filter_map(|name| name.strip_prefix("date=")).filter(|day| is_date(day));
    let mut all: Vec<String> = days.map(str::to_owned).collect();
    all.sort_unstable();
    Ok(all)
}

/// The names in a folder that are text.
fn listed(place: &Path) -> std::io::Result<Vec<String>> {
    let mut all = Vec::new();
    for entry in std::fs::read_dir(place)? {
        all.extend(entry?.file_name().into_string());
    }
    Ok(all)
}

/// Names of a volume that matter.
#[derive(Clone, Copy, Debug, Default)]
pub struct Apart<'a> {
    /// Paths from its root, such as `/a/b`, that have their own names in the tree, and whose entries have pairs of their own.
    pub regions: &'a [Vec<u8>],
    /// Whether nothing else is looked up by its name; otherwise what is in its directories is not known.
    pub complete: bool,
}

/// The pairs of a volume on that day, or on the last one that there is.
///
/// # Errors
/// There is no such day, a file is damaged, or this build reads none.
pub fn volume(
    folder: &Path,
    volume: &VolumeName,
    date: Option<&str>,
    apart: Apart<'_>,
) -> Result<Volume, DiskError> {
    #[cfg(feature = "parquet")]
    {
        super::read::volume(folder, volume, date, apart)
    }
    #[cfg(not(feature = "parquet"))]
    {
        let _ = (volume, date, apart);
        Err(not_built_in(folder))
    }
}

/// Every name of a volume on that day, or on the last one that there is, as a survey of it has them.
///
/// # Errors
/// As for [`volume`]; the volume is too large for a tree.
pub fn tree(folder: &Path, volume: &VolumeName, date: Option<&str>) -> Result<Tree, DiskError> {
    #[cfg(feature = "parquet")]
    {
        super::read::tree(folder, volume, date)
    }
    #[cfg(not(feature = "parquet"))]
    {
        let _ = (volume, date);
        Err(not_built_in(folder))
    }
}

#[cfg(not(feature = "parquet"))]
fn not_built_in(folder: &Path) -> DiskError {
    DiskError::whole(&folder.display().to_string(), "this build reads no datasets")
        .with_help("build it with --features parquet, or take a package")
}
