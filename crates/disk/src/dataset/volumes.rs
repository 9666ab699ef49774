//! Volumes of a dataset, their days, and what is read of them.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use mivask_model::tree::{Certainty, Doubt, InodeId, Tree};

use super::VolumeName;
use super::date::is_date;
use super::regions::{Regions, elsewhere};
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
    /// Directories of which it is taken for granted what is in them.
    pub(super) assumed: Vec<(InodeId, Certainty)>,
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
    let days = days.filter(|day| place.join(format!("date={day}/part.parquet")).exists());
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

/// A dataset that is read: what all of its volumes have in common is read once.
#[derive(Debug)]
pub struct Reader {
    folder: PathBuf,
    #[cfg(feature = "parquet")]
    tables: super::read::Tables,
}

impl Reader {
    /// Opens the dataset in `folder`.
    ///
    /// # Errors
    /// It is none, a table is damaged, or this build reads none.
    pub fn open(folder: &Path) -> Result<Self, DiskError> {
        #[cfg(feature = "parquet")]
        {
            Ok(Self { folder: folder.to_path_buf(), tables: super::read::tables(folder)? })
        }
        #[cfg(not(feature = "parquet"))]
        {
            Err(not_built_in(folder))
        }
    }

    /// Where it is.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The pairs of a volume on that day, or on the last one that there is.
    ///
    /// # Errors
    /// There is no such day, or a file is damaged.
    pub fn volume(
        &self,
        volume: &VolumeName,
        date: Option<&str>,
        apart: Apart<'_>,
    ) -> Result<Volume, DiskError> {
        #[cfg(feature = "parquet")]
        {
            super::read::volume((&self.folder, &self.tables), volume, date, apart)
        }
        #[cfg(not(feature = "parquet"))]
        {
            let _ = (volume, date, apart);
            Err(not_built_in(&self.folder))
        }
    }

    /// Every name of a volume on that day, or on the last one that there is, as a survey of it has them.
    ///
    /// # Errors
    /// As for [`Self::volume`]; the volume is too large for a tree.
    pub fn tree(&self, volume: &VolumeName, date: Option<&str>) -> Result<Tree, DiskError> {
        #[cfg(feature = "parquet")]
        {
            super::read::tree((&self.folder, &self.tables), volume, date)
        }
        #[cfg(not(feature = "parquet"))]
        {
            let _ = (volume, date);
            Err(not_built_in(&self.folder))
        }
    }
}

impl Volume {
    /// The same where it has turned out that no name is looked up in it.
    pub fn settle(&mut self) {
        let unknown = Certainty::Unknown(elsewhere());
        let tree = Arc::make_mut(&mut self.tree);
        let ids: Vec<InodeId> = tree.ids().collect();
        for id in ids {
            if let Some(doubt) = tree.doubt(id).filter(|doubt| doubt.contents == unknown).cloned() {
                tree.set_doubt(id, Doubt { contents: Certainty::Known, ..doubt });
            }
        }
        for (id, contents) in &self.assumed {
            tree.doubt_contents(*id, contents.clone());
        }
    }
}

#[cfg(not(feature = "parquet"))]
fn not_built_in(folder: &Path) -> DiskError {
    DiskError::whole(&folder.display().to_string(), "this build reads no datasets")
        .with_help("build it with --features parquet, or take a package")
}
