//! `identity`: who each actor is.

use std::io::Write;

use crate::end::{End, Failure};
use crate::load;
use crate::options::{Common, Format};

/// Who each actor is: ids, groups, capabilities, umask, and where each came from.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example: mivask identity pod.yaml --actor gauge")]
pub(crate) struct Args {
    #[command(flatten)]
    common: Common,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let stage = load::stage(&args.common.input, err)?;
    let actors = load::actors(&stage, &args.common.actor)?;
    match args.common.format {
        Format::Text => mivask_show::text::identities(out, &stage, &actors, load::layout())?,
        Format::Json => mivask_show::json::identities(out, &stage, &actors)?,
    }
    Ok(End::Answered)
}
