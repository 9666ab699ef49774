//! `draft`: a first scene to fill in.

use std::io::Write;
use std::path::{Path, PathBuf};

use mivask_show::draft;

use crate::end::{CommandError, End, Failure};
use crate::load::Whole;
use crate::options::Input;
use crate::reach::Asked;
use crate::{output, plain};

/// A first scene for a description: what it asks for that nobody has said yet, as comments to fill in.
///
/// The scene is one at once, and answers the same; each fact that is filled in turns a `depends` into an answer.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example: mivask draft pod.yaml -o hive.scene.yaml")]
pub(crate) struct Args {
    #[command(flatten)]
    input: Input,
    /// The file to write; by default standard output.
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

/// Why there is nothing to write a scene about.
#[derive(Debug, thiserror::Error)]
enum DraftError {
    /// It is one.
    #[error("{0} is a scene already: add to it what its answers ask for")]
    Scene(String),
    /// A scene names files.
    #[error("a scene names the description by its file: write it to one first")]
    StandardInput,
}

impl CommandError for DraftError {}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let input = &args.input.input;
    if input == Path::new("-") {
        return Err(DraftError::StandardInput.into());
    }
    let folder = plain::first_paths(&args.input).into_iter().next();
    let text = std::fs::read(input).unwrap_or_default();
    if folder.is_none() && text.split(|byte| *byte == b'\n').any(|line| line.starts_with(b"scene:")) {
        return Err(DraftError::Scene(mivask_show::safe(&input.display().to_string())).into());
    }
    let whole = Whole::read(&args.input, &Asked::default(), err)?;
    // Paths of a scene begin at its own folder.
    let elsewhere =
        args.output.as_deref().and_then(Path::parent).is_some_and(|folder| folder != Path::new(""));
    let named = |path: &PathBuf| {
        let whole = if elsewhere { path.canonicalize().ok() } else { None };
        whole.unwrap_or_else(|| path.clone()).display().to_string()
    };
    let descriptions: Vec<String> =
        std::iter::once(input).chain(&args.input.facts.merge).map(named).collect();
    let write = |out: &mut dyn Write| match &folder {
        Some(folder) => draft::of_folder(out, &folder.display().to_string()),
        None => draft::draft(out, whole.scene(), &descriptions),
    };
    match &args.output {
        Some(path) => output::replace(path, |file| Ok(write(file)?))?,
        None => write(out)?,
    }
    Ok(End::Answered)
}
