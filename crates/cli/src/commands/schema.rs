//! `schema`: JSON Schemas of our formats.

use std::io::Write;
use std::path::{Path, PathBuf};

use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use mivask_read::scene_file::SceneFile;
use mivask_show::json::Document;

use crate::end::{End, Failure};
use crate::output;

/// The JSON Schema of the scene file, or of what a command prints.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  mivask schema scene > scene.schema.json\n  mivask schema --to schemas\n\nAn editor checks a scene while it is written with this first line:\n  # yaml-language-server: $schema=scene.schema.json"
)]
pub(crate) struct Args {
    /// Which format: `scene`, or the document of a command.
    #[arg(value_name = "FORMAT", value_parser = format(), required_unless_present = "to")]
    which: Option<Which>,
    /// Write every schema to this folder, as FORMAT.schema.json.
    #[arg(long, value_name = "FOLDER", conflicts_with = "which")]
    to: Option<PathBuf>,
}

/// A format with a schema.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Which {
    /// The scene file.
    Scene,
    /// What a command prints.
    Document(Document),
}

impl Which {
    fn all() -> impl Iterator<Item = Self> {
        std::iter::once(Self::Scene).chain(Document::ALL.map(Self::Document))
    }

    const fn word(self) -> &'static str {
        match self {
            Self::Scene => "scene",
            Self::Document(document) => document.word(),
        }
    }

    fn text(self) -> Result<String, Failure> {
        let schema = match self {
            Self::Scene => schemars::schema_for!(SceneFile),
            Self::Document(document) => document.schema(),
        };
        let text = mivask_disk::json::pretty_text(&schema).map_err(Failure::Output)?;
        Ok(format!("{text}\n"))
    }
}

fn format() -> impl TypedValueParser<Value = Which> {
    let words = Which::all().map(|which| PossibleValue::new(which.word()));
    PossibleValuesParser::new(words)
        .map(|word| Which::all().find(|which| which.word() == word).expect("only these words are taken"))
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<End, Failure> {
    if let Some(which) = args.which {
        out.write_all(which.text()?.as_bytes())?;
    }
    if let Some(folder) = &args.to {
        write(folder)?;
    }
    Ok(End::Answered)
}

fn write(folder: &Path) -> Result<(), Failure> {
    std::fs::create_dir_all(folder).map_err(|error| Failure::File { path: folder.to_path_buf(), error })?;
    for which in Which::all() {
        let text = which.text()?;
        let path = folder.join(format!("{}.schema.json", which.word()));
        output::replace(&path, |file| Ok(file.write_all(text.as_bytes())?))?;
    }
    Ok(())
}
