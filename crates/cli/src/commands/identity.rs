//! `identity`: who each actor is.

use std::io::Write;

use crate::end::{End, Failure};
use crate::load;
use crate::options::{Common, Format};
use mivask_core::stage::Stage;
use mivask_show::sides;

/// Who each actor is: ids, groups, capabilities, umask, and where each came from.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example: mivask identity pod.yaml --actor gauge")]
pub(crate) struct Args {
    #[command(flatten)]
    common: Common,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let mut answer = |stage: &Stage, _: &mut dyn Write| {
        Ok(sides::identities(stage, &load::actors(stage, &args.common.actor)?))
    };
    if let Some(sides) = load::sides(&args.common.input, err, &mut answer)? {
        return load::print_sides(out, &sides, args.common.format == Format::Json);
    }
    let stage = load::stage(&args.common.input, err)?;
    let actors = load::actors(&stage, &args.common.actor)?;
    match args.common.format {
        Format::Text => mivask_show::text::identities(out, &stage, &actors, load::layout())?,
        Format::Json => mivask_show::json::identities(out, &stage, &actors)?,
    }
    Ok(End::Answered)
}
