//! `demo`: writes a demo scene and walks through it.

mod archive;
mod beacon;
mod quay;
mod tides;

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

use clap::ValueEnum;

use crate::end::{CommandError, End, Failure};
use crate::output;

/// Writes a demo scene and walks through it.
///
/// Every command is printed before its output, so that you can repeat and vary it.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  mivask demo tides\n  mivask demo --scene quay\n  mivask demo --scene archive audit"
)]
pub(crate) struct Args {
    /// A new or empty folder; by default a temporary one.
    folder: Option<PathBuf>,
    /// Which one.
    #[arg(long, value_name = "NAME", default_value = "tides")]
    scene: Which,
}

/// A demo.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
enum Which {
    /// A pod of four containers at a tide observatory on a salt marsh.
    Tides,
    /// Three Compose services at a weighing quay: a named volume, and a folder that root created.
    Quay,
    /// An audit of 100,000 generated files.
    Archive,
    /// Five Compose services at a lighthouse, on a host where SELinux enforces.
    Beacon,
}

impl Which {
    const fn scene(self) -> &'static Scene {
        match self {
            Self::Tides => &tides::TIDES,
            Self::Quay => &quay::QUAY,
            Self::Archive => &archive::ARCHIVE,
            Self::Beacon => &beacon::BEACON,
        }
    }
}

/// What a demo consists of.
struct Scene {
    /// The file to read first.
    about: &'static str,
    /// Its files.
    files: &'static [(&'static str, &'static str)],
    /// The name and bytes of a SELinux policy.
    policy: Option<(&'static str, &'static [u8])>,
    /// The name of a listing that is made up.
    archive: Option<&'static str>,
    /// What is shown, in order: why, and the words behind `mivask`.
    walk: &'static [(&'static str, &'static [&'static str])],
}

/// Runs one command line, as [`super::run`] does after parsing it.
pub(super) type RunLine = fn(&[&str], &mut dyn Write, &mut dyn Write) -> Result<End, Failure>;

pub(crate) fn run(args: &Args, run_line: RunLine, out: &mut dyn Write) -> Result<End, Failure> {
    let folder = match &args.folder {
        Some(folder) => {
            fresh(folder)?;
            folder.clone()
        }
        None => {
            let folder =
                tempfile::Builder::new().prefix("mivask-demo-").tempdir().map_err(Failure::Output)?;
            folder.keep()
        }
    };
    let scene = args.scene.scene();
    for (name, text) in scene.files {
        write(&folder.join(name), text.as_bytes())?;
    }
    if let Some((name, bytes)) = scene.policy {
        write(&folder.join(name), bytes)?;
    }
    if let Some(name) = scene.archive {
        output::replace(&folder.join(name), |file| Ok(archive::write(file)?))?;
    }
    let folder_name = folder.display();
    let about = scene.about;
    writeln!(out, "The demo scene is in {folder_name}. Read {about} there first: it is a tutorial.")?;
    writeln!(out, "\n$ cd {}", shell_word(&folder.display().to_string()))?;
    // The commands below are those a reader types there.
    std::env::set_current_dir(&folder).map_err(|error| Failure::File { path: folder.clone(), error })?;
    for (number, (reason, words)) in scene.walk.iter().enumerate() {
        let line: Vec<String> = words.iter().map(|word| shell_word(word)).collect();
        writeln!(out, "\n{}\n\n$ mivask {}\n", reason, line.join(" "))?;
        // Each command has the same warnings: once is enough here, and behind the answer.
        let mut warnings = Vec::new();
        run_line(words, out, &mut warnings)?;
        if number == 0 && !warnings.is_empty() {
            writeln!(
                out,
                "\nEvery command first warns, on standard error, about what is probably not intended:\n"
            )?;
            out.write_all(&warnings)?;
        }
    }
    Ok(End::Answered)
}

/// The folder holds something already.
#[derive(Debug, thiserror::Error)]
#[error("{} is not empty: name a folder that is new or empty", .0.display())]
struct Occupied(PathBuf);

impl CommandError for Occupied {}

/// The folder, made where it is missing; one that holds anything is left alone.
fn fresh(folder: &Path) -> Result<(), Failure> {
    let failure = |error| Failure::File { path: folder.to_path_buf(), error };
    fs::create_dir_all(folder).map_err(failure)?;
    if fs::read_dir(folder).map_err(failure)?.next().is_some() {
        return Err(Occupied(folder.to_path_buf()).into());
    }
    Ok(())
}

fn write(path: &Path, bytes: &[u8]) -> Result<(), Failure> {
    let failure = |error| Failure::File { path: path.to_path_buf(), error };
    if let Some(parent) = path.parent() {
        fs::create_dir_all(parent).map_err(failure)?;
    }
    output::replace(path, |file| Ok(file.write_all(bytes)?))
}

/// A word as a shell takes it.
fn shell_word(word: &str) -> String {
    let plain = word.chars().all(|c| c.is_ascii_alphanumeric() || "/._-=:+,@".contains(c));
    if plain && !word.is_empty() { word.to_owned() } else { format!("'{}'", word.replace('\'', "'\\''")) }
}
