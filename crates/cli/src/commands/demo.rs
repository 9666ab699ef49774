//! `demo`: writes the demo scene and walks through it.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

use crate::end::{End, Failure};

/// Writes a demo scene, a tide observatory on a salt marsh, and walks through it.
///
/// Every command is printed before its output, so that it can be repeated and varied.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example: mivask demo tides")]
pub(crate) struct Args {
    /// A new or empty folder; a temporary one where left out.
    folder: Option<PathBuf>,
}

const FILES: [(&str, &str); 7] = [
    ("tides.scene.yaml", include_str!("../../demo/tides.scene.yaml")),
    // What the first line of the scene names, for editors that check it.
    ("scene.schema.json", include_str!("../../demo/scene.schema.json")),
    ("station.yaml", include_str!("../../demo/station.yaml")),
    ("station.acts", include_str!("../../demo/station.acts")),
    ("expectations.acts", include_str!("../../demo/expectations.acts")),
    ("press/passwd", include_str!("../../demo/press/passwd")),
    ("press/group", include_str!("../../demo/press/group")),
];

/// What is shown, in order: why, and the words behind `mivask`.
const WALK: [(&str, &[&str]); 14] = [
    (
        "Who is who? gauge has its numbers from the manifest, press from its image: Kubernetes takes only the\n\
         user of `USER press:charts`, so the group `charts` never arrives. herald has no account, so its group is 0.",
        &["identity", "tides.scene.yaml"],
    ),
    (
        "What is mounted where? The filesystem group reaches the emptyDirs; the claim is skipped, because its root\n\
         matches (OnRootMismatch); the host path never gets it.",
        &["mounts", "tides.scene.yaml"],
    ),
    ("What can they do?", &["access", "tides.scene.yaml"]),
    ("Single acts, with what we expect of them.", &["ask", "tides.scene.yaml", "--acts", "station.acts"]),
    ("Why can herald not publish?", &["why", "tides.scene.yaml", "herald creates /publish/today.svg"]),
    (
        "Why can gauge not read what the root init container left?",
        &["why", "tides.scene.yaml", "gauge reads /data/calibration.toml"],
    ),
    ("What will new files look like?", &["imprint", "tides.scene.yaml"]),
    (
        "What if they act one after the other? Nothing on any disk is touched; each line sees what the earlier ones changed.",
        &[
            "rehearse",
            "tides.scene.yaml",
            "gauge creates /data/new.csv",
            "press reads /data/new.csv -> allowed",
            "prime sets-mode g+x on /data/archive",
            "press reads /data/archive/2025.csv -> allowed",
        ],
    ),
    ("Who can use what somebody else creates on a shared volume?", &["handoff", "tides.scene.yaml"]),
    (
        "Whom does a file let in, the way there included?",
        &["admits", "tides.scene.yaml", "/data/archive/2025.csv", "--actor", "press"],
    ),
    ("What is open wider than anybody needs?", &["exposure", "tides.scene.yaml"]),
    (
        "What would follow if gauge ran as another user?",
        &["compare", "tides.scene.yaml", "--change", "gauge becomes 7102:7200"],
    ),
    (
        "And what is the smallest change that lets gauge write to /tmp?",
        &["remedy", "tides.scene.yaml", "gauge creates /tmp/x", "--most", "1"],
    ),
    (
        "Does everything hold that is expected, in this change and in every one to come?",
        &["uphold", "tides.scene.yaml", "--all"],
    ),
];

/// Runs one command line, as [`super::run`] does after parsing it.
pub(super) type RunLine = fn(&[&str], &mut dyn Write, &mut dyn Write) -> Result<End, Failure>;

pub(super) fn run(args: &Args, run_line: RunLine, out: &mut dyn Write) -> Result<End, Failure> {
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
    for (name, text) in FILES {
        write(&folder.join(name), text)?;
    }
    writeln!(
        out,
        "The demo scene is in {}. Read tides.scene.yaml there first: it is a tutorial.",
        folder.display()
    )?;
    writeln!(out, "\n$ cd {}", shell_word(&folder.display().to_string()))?;
    // The commands below are those a reader types there.
    std::env::set_current_dir(&folder).map_err(|error| Failure::File { path: folder.clone(), error })?;
    for (number, (reason, words)) in WALK.iter().enumerate() {
        let line: Vec<String> = words.iter().map(|word| shell_word(word)).collect();
        writeln!(out, "\n{}\n\n$ mivask {}\n", reason, line.join(" "))?;
        // Each command has the same warnings: once is enough here, and behind the answer.
        let mut warnings = Vec::new();
        run_line(words, out, &mut warnings)?;
        if number == 0 && !warnings.is_empty() {
            writeln!(
                out,
                "\nEvery command first warns, on standard error, of what is probably not meant:\n"
            )?;
            out.write_all(&warnings)?;
        }
    }
    Ok(End::Answered)
}

/// The folder, made where it is missing; one that holds anything is left alone.
fn fresh(folder: &Path) -> Result<(), Failure> {
    let failure = |error| Failure::File { path: folder.to_path_buf(), error };
    fs::create_dir_all(folder).map_err(failure)?;
    if fs::read_dir(folder).map_err(failure)?.next().is_some() {
        return Err(Failure::Occupied { path: folder.to_path_buf() });
    }
    Ok(())
}

fn write(path: &Path, text: &str) -> Result<(), Failure> {
    let failure = |error| Failure::File { path: path.to_path_buf(), error };
    if let Some(parent) = path.parent() {
        fs::create_dir_all(parent).map_err(failure)?;
    }
    fs::write(path, text).map_err(failure)
}

/// A word as a shell takes it.
fn shell_word(word: &str) -> String {
    let plain = word.chars().all(|c| c.is_ascii_alphanumeric() || "/._-=:+,@".contains(c));
    if plain && !word.is_empty() { word.to_owned() } else { format!("'{}'", word.replace('\'', "'\\''")) }
}
