//! `draft`: a first scene to fill in.

use std::io::Write;
use std::path::{Path, PathBuf};

use mivask_core::scene::Scene;
use mivask_show::draft::{self, Given};

use crate::end::{CommandError, End, Failure};
use crate::load::Whole;
use crate::options::{Input, NamedSource};
use crate::reach::Asked;
use crate::{facts, images, output, plain};

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
    let named = |path: &Path| {
        let whole = if elsewhere { path.canonicalize().ok() } else { None };
        whole.unwrap_or_else(|| path.to_path_buf()).display().to_string()
    };
    let given = given(&args.input, whole.scene(), &named);
    let write = |out: &mut dyn Write| match &folder {
        Some(folder) => draft::of_folder(out, &folder.display().to_string()),
        None => draft::draft(out, whole.scene(), &given),
    };
    match &args.output {
        Some(path) => output::replace(path, |file| Ok(write(file)?))?,
        None => write(out)?,
    }
    Ok(End::Answered)
}

/// What was given beside the description; `named` is how the scene calls a file.
fn given(input: &Input, scene: &Scene, named: &dyn Fn(&Path) -> String) -> Given {
    let facts = &input.facts;
    let source = |given: &NamedSource| match images::named(&given.source) {
        Some(_) => given.source.display().to_string(),
        None => named(&given.source),
    };
    let mut all = Given {
        workloads: std::iter::once(&input.input).chain(&facts.merge).map(|path| named(path)).collect(),
        runtime: facts.runtime.first().copied(),
        images_from: facts.images_from.iter().map(|place| images::place_as_named(place, named)).collect(),
        images: facts.image.iter().map(|given| (given.name.clone(), source(given))).collect(),
        ..Given::default()
    };
    for given in &facts.disk {
        match facts::part_of_host(&given.name) {
            Some(path) => all.host.push((path.to_owned(), source(given))),
            None => {
                let name = facts::own_name(Some(&scene.workloads), &given.name);
                all.volumes.push((name.to_owned(), source(given)));
            }
        }
    }
    all
}
