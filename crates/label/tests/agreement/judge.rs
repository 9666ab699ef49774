//! The C program that asks libsepol.

use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use tempfile::TempDir;

/// The compiled program, in a folder that lives as long as this.
pub(crate) struct Judge {
    folder: TempDir,
}

/// Compiles the judge; `None`, with a word, where it cannot be.
pub(crate) fn compiled() -> Option<Judge> {
    let folder = tempfile::tempdir().unwrap();
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/judge.c");
    let made = Command::new("cc")
        .args(["-O2", "-o"])
        .arg(folder.path().join("judge"))
        .arg(source)
        // The functions that decide are not among those that the shared library shows.
        .arg("-l:libsepol.a")
        .output();
    match made {
        Ok(made) if made.status.success() => Some(Judge { folder }),
        Ok(_) | Err(_) => {
            skipped("libsepol's static library and headers, or a C compiler, are not installed");
            None
        }
    }
}

/// Says why a row was not tried.
#[expect(clippy::print_stdout, reason = "the record of the tests lists it")]
pub(crate) fn skipped(why: &str) {
    println!("skipped: agreement with libsepol: {why}");
}

impl Judge {
    /// The judge's answers to `questions` about a policy, one a line.
    pub(crate) fn ask(&self, policy: &Path, questions: &str) -> Vec<String> {
        let path = |name: &str| -> PathBuf { self.folder.path().join(name) };
        std::fs::write(path("questions"), questions).unwrap();
        let status = Command::new(path("judge"))
            .arg(policy)
            .stdin(Stdio::from(File::open(path("questions")).unwrap()))
            .stdout(Stdio::from(File::create(path("answers")).unwrap()))
            .status()
            .unwrap();
        assert!(status.success(), "the judge ended with {status}");
        let answers = std::fs::read_to_string(path("answers")).unwrap();
        answers.lines().map(str::to_owned).collect()
    }
}
