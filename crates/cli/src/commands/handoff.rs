//! `handoff`: what one actor can do with what another creates.

use std::io::Write;
use std::path::PathBuf;

use mivask_disk::process::Reach;
use mivask_show::{json, text};

use crate::end::{End, Failure};
use crate::load::{self, Whole, layout};
use crate::options::{Format, Input};
use crate::terminal;

/// Which containers can use files another one creates on a shared volume.
///
/// Each actor creates a file, and a file in a new subdirectory, with its umask, the setgid bit and default ACLs in
/// effect; then every other actor tries to use it. Nothing on any disk is touched.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  mivask handoff tides.scene.yaml\n  mivask handoff tides.scene.yaml /data/archive --change 'gauge umask 0002'"
)]
pub(crate) struct Args {
    #[command(flatten)]
    input: Input,
    /// Directories inside the containers, instead of the roots of shared mounts.
    #[arg(value_name = "DIRECTORY")]
    directories: Vec<PathBuf>,
    /// How to print the answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    format: Format,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    if args.input.facts.runtime.len() > 1 {
        return Err(Failure::OneRuntimeAtATime("handoff"));
    }
    let paths = load::inside_paths(&args.directories)?;
    let whole = Whole::read(&args.input, &Reach { paths: paths.clone(), whole: true }.into(), err)?;
    let working = terminal::working("trying what each creates and what the others can do with it");
    let found = whole.handoffs(&paths)?;
    drop(working);
    match args.format {
        Format::Text => text::handoffs(out, &found, layout())?,
        Format::Json => json::handoffs(out, &found)?,
    }
    Ok(End::Answered)
}
