//! `mounts`: what each actor sees mounted where.

use std::io::Write;

use mivask_core::question::mounts;

use crate::end::{End, Failure};
use crate::load;
use crate::options::{Common, Format};
use mivask_core::stage::Stage;
use mivask_show::sides;

/// What is mounted where for each actor: source, flags, and the root's owner and mode before and after
/// the kubelet prepared it.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example: mivask mounts station.scene.yaml --actor press")]
pub(crate) struct Args {
    #[command(flatten)]
    common: Common,
    /// Also what the runtime mounts into every container (/proc, /dev, ...); JSON always has it.
    #[arg(long)]
    all: bool,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let mut answer = |stage: &Stage, _: &mut dyn Write| {
        let actors = load::actors(stage, &args.common.actor)?;
        let mut rows: Vec<_> = actors.iter().flat_map(|actor| mounts(stage, actor)).collect();
        rows.retain(|row| args.all || !row.is_default());
        Ok(sides::mounts(&rows))
    };
    if let Some(sides) = load::sides(&args.common.input, err, &mut answer)? {
        return load::print_sides(out, &sides, args.common.format == Format::Json);
    }
    let stage = load::stage(&args.common.input, err)?;
    let actors = load::actors(&stage, &args.common.actor)?;
    let mut rows: Vec<_> = actors.iter().flat_map(|actor| mounts(&stage, actor)).collect();
    match args.common.format {
        Format::Text => {
            rows.retain(|row| args.all || !row.is_default());
            mivask_show::text::mounts(out, &rows, load::layout())?;
        }
        Format::Json => mivask_show::json::mounts(out, &rows)?,
    }
    Ok(End::Answered)
}
