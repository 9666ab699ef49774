//! `schema`: JSON Schemas of our formats.

use std::io::Write;

use clap::ValueEnum;
use mivask_read::scene_file::SceneFile;

use crate::end::{End, Failure};

/// Prints the JSON Schema of one of Mivask's own formats.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example: mivask schema scene > scene.schema.json")]
pub(crate) struct Args {
    /// Which format.
    which: Which,
}

/// A format with a schema.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
enum Which {
    /// The scene file.
    Scene,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<End, Failure> {
    let schema = match args.which {
        Which::Scene => schemars::schema_for!(SceneFile),
    };
    let text = serde_json::to_string_pretty(&schema).map_err(|error| Failure::Output(error.into()))?;
    writeln!(out, "{text}")?;
    Ok(End::Answered)
}
