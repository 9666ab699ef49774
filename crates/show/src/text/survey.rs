//! What a survey recorded and what it could not.

use std::collections::BTreeSet;
use std::io::{self, Write};
use std::time::Duration;

use mivask_core::fact::Unknown;
use mivask_core::tree::Tree;
use mivask_disk::dataset::{ActorRow, Target, Verdicts, Written};

use crate::safe;

/// Facts that are named.
const MOST_NAMED: usize = 5;

/// One line about a survey that was written.
///
/// # Errors
/// `out` cannot be written.
pub fn survey(out: &mut dyn Write, source: &str, file: &str, tree: &Tree, bytes: u64) -> io::Result<()> {
    let (directories, _) = tree.extent();
    let inodes = tree.len();
    let tenths = bytes * 10 / inodes as u64;
    let each = if tenths == 0 { "under 0.1".to_owned() } else { format!("{}.{}", tenths / 10, tenths % 10) };
    let source = safe(source);
    let file = safe(file);
    let inodes = grouped(inodes as u64);
    let directories = grouped(directories as u64);
    let bytes = grouped(bytes);
    writeln!(
        out,
        "{source}: {inodes} inodes, {directories} of them directories, in {bytes} bytes ({each} each): {file}"
    )
}

/// One line about a volume that was written into a dataset.
///
/// # Errors
/// `out` cannot be written.
pub fn dataset(out: &mut dyn Write, source: &str, target: &Target, written: &Written) -> io::Result<()> {
    let tenths = written.bytes * 10 / written.rows.max(1);
    let each = if tenths == 0 { "under 0.1".to_owned() } else { format!("{}.{}", tenths / 10, tenths % 10) };
    writeln!(
        out,
        "{}: {} rows, {} classes, {} ways, in {} bytes ({each} a row): volume {} of {} in {}",
        safe(source),
        grouped(written.rows),
        grouped(written.classes as u64),
        grouped(written.ways as u64),
        grouped(written.bytes),
        target.volume.as_str(),
        safe(&target.date),
        safe(&target.folder.display().to_string())
    )
}

/// A file that is kept of an image.
#[derive(Clone, Debug)]
pub struct Kept {
    /// What it is called, which begins with a digest.
    pub name: String,
    /// How many bytes it has.
    pub bytes: u64,
    /// How long ago it was used.
    pub unused: Duration,
    /// Whether it is a whole image, and not a layer.
    pub is_image: bool,
}

/// What is kept of images in `folder`, of at most `most` bytes.
///
/// # Errors
/// `out` cannot be written.
pub fn kept(out: &mut dyn Write, folder: &str, most: u64, all: &[Kept]) -> io::Result<()> {
    let bytes = all.iter().map(|one| one.bytes).sum();
    let files =
        if all.len() == 1 { "1 file".to_owned() } else { format!("{} files", grouped(all.len() as u64)) };
    writeln!(out, "{}: {files}, {} bytes of at most {}", safe(folder), grouped(bytes), grouped(most))?;
    for one in all {
        let what = if one.is_image { "image" } else { "layer" };
        let bytes = grouped(one.bytes);
        writeln!(out, "  {what}  {bytes:>11} bytes  used {:<14}  {}", ago(one.unused), safe(&one.name))?;
    }
    Ok(())
}

fn ago(time: Duration) -> String {
    let units = [(86400, "day"), (3600, "hour"), (60, "minute")];
    let seconds = time.as_secs();
    let Some((length, unit)) = units.iter().find(|(length, _)| seconds >= *length) else {
        return "just now".to_owned();
    };
    let count = seconds / length;
    format!("{count} {unit}{} ago", if count == 1 { "" } else { "s" })
}

/// What stayed unknown, if anything did.
///
/// # Errors
/// `err` cannot be written.
pub fn holes(err: &mut dyn Write, vanished: u64, denied: u64, failed: u64) -> io::Result<()> {
    let parts = [
        (vanished, "went away while they were looked at"),
        (denied, "may not be looked at by this user"),
        (failed, "could not be read"),
    ];
    for (count, what) in parts.into_iter().filter(|(count, _)| *count > 0) {
        let noun = if count == 1 { "entry" } else { "entries" };
        let count = grouped(count);
        writeln!(err, "warning: {count} {noun} {what}: recorded as unknown")?;
    }
    Ok(())
}

/// The first of the facts that are missing, by name.
///
/// # Errors
/// `err` cannot be written.
pub fn missing_facts<'a>(err: &mut dyn Write, facts: impl Iterator<Item = &'a Unknown>) -> io::Result<()> {
    let mut facts = facts;
    for unknown in facts.by_ref().take(MOST_NAMED) {
        writeln!(err, "  {}", safe(&unknown.fact))?;
    }
    let more = facts.count();
    if more > 0 { writeln!(err, "  and {} more", grouped(more as u64)) } else { Ok(()) }
}

/// Other file systems that were left alone.
///
/// # Errors
/// `err` cannot be written.
pub fn boundaries(err: &mut dyn Write, count: u64) -> io::Result<()> {
    if count == 0 {
        return Ok(());
    }
    let (noun, them) = if count == 1 { ("directory", "it was") } else { ("directories", "they were") };
    writeln!(
        err,
        "note: something is mounted on {} {noun}; {them} not entered (--across-mounts does)",
        grouped(count)
    )
}

/// What a dataset got beside its rows.
///
/// # Errors
/// The output cannot be written.
pub fn verdicts(out: &mut dyn Write, folder: &str, all: &Verdicts, bytes: u64) -> io::Result<()> {
    let of = |field: &dyn Fn(&ActorRow) -> (&str, &str)| {
        let distinct: BTreeSet<(&str, &str)> = all.actors.iter().map(field).collect();
        distinct.len() as u64
    };
    let actors = of(&|row| (&row.input, &row.actor));
    let volumes = of(&|row| (&row.volume, ""));
    let acts = all.views.iter().flat_map(|(_, pairs)| pairs).map(|pair| pair.acts.len() as u64);
    let verdicts: u64 = acts.sum();
    let count = |number: u64, one: &str, many: &str| {
        format!("{} {}", grouped(number), if number == 1 { one } else { many })
    };
    writeln!(
        out,
        "{} on {}: {} in {}, {} bytes in {}",
        count(actors, "actor", "actors"),
        count(volumes, "volume", "volumes"),
        count(verdicts, "verdict", "verdicts"),
        count(all.views.len() as u64, "view", "views"),
        grouped(bytes),
        safe(folder)
    )
}

/// Volumes that descriptions mount and no survey is of.
///
/// # Errors
/// The output cannot be written.
pub fn not_in_dataset(err: &mut dyn Write, missing: &[String]) -> io::Result<()> {
    match some(missing) {
        None => Ok(()),
        Some(shown) => writeln!(err, "note: the dataset has no {shown}: nothing is said of what is there"),
    }
}

/// Volumes that no description mounts.
///
/// # Errors
/// The output cannot be written.
pub fn not_mounted(err: &mut dyn Write, volumes: &[String]) -> io::Result<()> {
    match some(volumes) {
        None => Ok(()),
        Some(shown) => writeln!(
            err,
            "note: nobody who is described mounts {shown}: there are no verdicts about {}",
            if volumes.len() == 1 { "it" } else { "them" }
        ),
    }
}

/// The first of these names, and how many more there are; `None` where there is none.
fn some(names: &[String]) -> Option<String> {
    let shown: Vec<String> = names.iter().take(MOST_NAMED).map(|name| safe(name)).collect();
    let more = names.len().saturating_sub(MOST_NAMED);
    let rest = if more == 0 { String::new() } else { format!(" and {} more", grouped(more as u64)) };
    (!names.is_empty()).then(|| format!("{}{rest}", shown.join(", ")))
}

/// A number with commas between thousands.
pub(crate) fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (index, digit) in digits.chars().enumerate() {
        if index > 0 && (digits.len() - index).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn thousands_are_told_apart() {
        assert_eq!([0, 999, 1000, 4112, 1_234_567].map(grouped), ["0", "999", "1,000", "4,112", "1,234,567"]);
    }
}
