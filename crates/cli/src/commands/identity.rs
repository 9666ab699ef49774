//! `identity`: who each actor is.

use std::io::Write;

use crate::args::{Format, Input, Only};
use crate::end::{End, Failure};
use crate::load;

/// Who each actor is: ids, groups, capabilities, umask, and where each came from.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example: mivask identity pod.yaml --actor gauge")]
pub(crate) struct Args {
    #[command(flatten)]
    input: Input,
    #[command(flatten)]
    only: Only,
    /// How to print the answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    format: Format,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let stage = load::stage(&args.input, err)?;
    let actors = load::actors(&stage, &args.only)?;
    match args.format {
        Format::Text => mivask_show::text::identities(out, &stage, &actors, load::layout())?,
        Format::Json => mivask_show::json::identities(out, &stage, &actors)?,
    }
    Ok(End::Answered)
}
