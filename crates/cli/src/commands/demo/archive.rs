//! What is on the demo's archive: ten years of readings, made up on the spot.

use std::io::{self, Write};

use super::Scene;

/// An audit of a large volume.
pub(super) const ARCHIVE: Scene = Scene {
    about: "archive.scene.yaml",
    files: &[
        ("archive.scene.yaml", include_str!("../../../demo/archive/archive.scene.yaml")),
        ("scene.schema.json", include_str!("../../../demo/archive/scene.schema.json")),
        ("archive.acts", include_str!("../../../demo/archive/archive.acts")),
    ],
    policy: None,
    archive: Some("archive.mtree"),
    walk: &[
        (
            "The listing of 100,000 files as a survey: small, and read in a moment.",
            &["survey", "archive.mtree", "-o", "archive.survey"],
        ),
        (
            "What can the press do to all of it, and which directories keep it out?",
            &["access", "archive.scene.yaml", "/archive", "--tree", "--actor", "press"],
        ),
        (
            "Who can read keys that they should not?",
            &[
                "access",
                "archive.scene.yaml",
                "/archive",
                "--tree",
                "--list",
                "--actor",
                "herald",
                "--matching",
                "/archive/**/station.key",
                "--where",
                "read=allowed",
            ],
        ),
        ("What is open wider than it needs to be?", &["exposure", "archive.scene.yaml"]),
        ("What should hold, and does not?", &["uphold", "archive.scene.yaml", "--all"]),
        (
            "What would let the press read the month that root restored?",
            &["remedy", "archive.scene.yaml", "press reads /archive/2019/07/level-0001.csv", "--most", "2"],
        ),
    ],
};

/// Files of a month; with the keys there are 100,000 files and 130 directories.
const READINGS: usize = 832;

/// One entry: its path below the root, kind, owner, group, mode.
type Entry<'a> = (&'a str, &'static str, u32, u32, u16);

/// Writes the listing (mtree), directory by directory.
pub(super) fn write(out: &mut dyn Write) -> io::Result<()> {
    writeln!(out, "#mtree")?;
    entry(out, (".", "dir", 0, 7300, 0o2775))?;
    let mut left = 100_000;
    for year in 2016..=2025 {
        entry(out, (&format!("./{year}"), "dir", 7101, 7300, 0o2775))?;
        for month in 1..=12 {
            left -= self::month(out, year, month, left)?;
        }
    }
    Ok(())
}

/// A month, with at most `most` files; gives how many it has.
fn month(out: &mut dyn Write, year: u32, month: u32, most: usize) -> io::Result<usize> {
    let folder = format!("./{year}/{month:02}");
    // Traps: a month that root restored from a backup, and one that someone opened to all in a hurry.
    let (owner, group, mode) = match (year, month) {
        (2019, 7) => (0, 0, 0o700),
        (2024, 3) => (7101, 7300, 0o2777),
        _ => (7101, 7300, 0o2775),
    };
    entry(out, (&folder, "dir", owner, group, mode))?;
    // Trap: a year whose keys everyone may read.
    let key = if year == 2023 { 0o644 } else { 0o640 };
    entry(out, (&format!("{folder}/station.key"), "file", 7101, 7300, key))?;
    let last = year == 2025 && month == 12;
    let readings = if last { most - 1 } else { READINGS.min(most - 1) };
    for number in 1..=readings {
        // Traps: a station with a umask of its own, and three files that were given to everyone.
        let mode = match (year, number) {
            (2018, number) if number % 211 == 0 => 0o600,
            (2021, 77) if month <= 3 => 0o666,
            _ => 0o644,
        };
        entry(out, (&format!("{folder}/level-{number:04}.csv"), "file", 7101, 7300, mode))?;
    }
    Ok(readings + 1)
}

fn entry(out: &mut dyn Write, (path, kind, owner, group, mode): Entry<'_>) -> io::Result<()> {
    writeln!(out, "{path} type={kind} uid={owner} gid={group} mode={mode:04o}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn there_are_a_hundred_thousand_files() {
        let mut text = Vec::new();
        write(&mut text).expect("memory takes everything");
        let text = String::from_utf8(text).expect("it is text");
        let count = |kind: &str| text.lines().filter(|line| line.contains(kind)).count();
        assert_eq!((count("type=file"), count("type=dir")), (100_000, 131));
    }
}
