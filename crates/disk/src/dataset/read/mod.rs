//! Volumes of a dataset read back.

mod fields;
mod names;
mod pairs;
mod whole;

use std::path::{Path, PathBuf};

use mivask_model::tree::Tree;

use super::{Apart, Volume, VolumeName, days};
use crate::error::DiskError;
pub(super) use fields::Tables;

/// The small tables of the dataset in `folder`.
pub(super) fn tables(folder: &Path) -> Result<Tables, DiskError> {
    Tables::read(folder)
}

/// The pairs of a volume on that day, or on the last one that there is.
///
/// # Errors
/// There is no such day, or a file is damaged.
pub(super) fn volume(
    (folder, tables): (&Path, &Tables),
    volume: &VolumeName,
    date: Option<&str>,
    apart: Apart<'_>,
) -> Result<Volume, DiskError> {
    pairs::read(tables, &day(folder, volume, date)?, apart)
}

/// Every name of a volume on that day, or on the last one that there is, as a survey of it has them.
///
/// # Errors
/// As for [`volume`]; the volume is too large for a tree.
pub(super) fn tree(
    (folder, tables): (&Path, &Tables),
    volume: &VolumeName,
    date: Option<&str>,
) -> Result<Tree, DiskError> {
    whole::read(tables, &day(folder, volume, date)?)
}

/// A volume of a day: its rows, and the day.
struct Day {
    path: PathBuf,
    date: String,
}

impl Day {
    fn failed(&self, error: impl ToString) -> DiskError {
        let message = error.to_string();
        // What the decoder says of itself is of no use to anybody.
        let message = message.strip_prefix("Parquet error: ").unwrap_or(&message);
        DiskError::whole(&self.path.display().to_string(), message)
            .with_help("take the survey of this volume again")
    }

    fn damaged(&self, what: &str) -> DiskError {
        self.failed(what)
    }
}

/// Its rows of that day, or of the last one.
fn day(folder: &Path, volume: &VolumeName, date: Option<&str>) -> Result<Day, DiskError> {
    let all = days(folder, volume)?;
    let found = match date {
        Some(date) => all.iter().find(|day| *day == date),
        None => all.last(),
    };
    let name = volume.as_str();
    let Some(date) = found else {
        let message = match date {
            Some(date) => {
                format!("there is no survey of volume {name} of {date}: there are {}", all.join(", "))
            }
            None => format!("there is no day of volume {name}"),
        };
        return Err(DiskError::whole(&folder.display().to_string(), message));
    };
    let path = folder.join(format!("entries/volume={name}/date={date}/part.parquet"));
    Ok(Day { path, date: date.clone() })
}
