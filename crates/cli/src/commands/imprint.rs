//! `imprint`: what new files will look like.

use std::io::Write;
use std::path::PathBuf;

use mivask_core::question::imprints;

use crate::end::{End, Failure};
use crate::load;
use crate::options::{Common, Format};
use mivask_core::stage::Stage;
use mivask_show::sides;

/// Owner, group and mode of new files and directories, as the actor sees them and as they are stored.
///
/// Without a DIRECTORY: the mounts the description asks for.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example: mivask imprint pod.yaml /data /tmp")]
pub(crate) struct Args {
    #[command(flatten)]
    common: Common,
    /// Absolute paths of directories inside the container.
    #[arg(value_name = "DIRECTORY")]
    directories: Vec<PathBuf>,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let mut answer = |stage: &Stage, _: &mut dyn Write| {
        let paths: Vec<Vec<u8>> =
            args.directories.iter().map(|path| load::inside_path(path)).collect::<Result<_, _>>()?;
        let actors = load::actors(stage, &args.common.actor)?;
        let rows: Vec<_> = actors.iter().flat_map(|actor| imprints(stage, actor, &paths)).collect();
        Ok(sides::imprints(&rows))
    };
    if let Some(sides) = load::sides(&args.common.input, err, &mut answer)? {
        return load::print_sides(out, &sides, args.common.format == Format::Json);
    }
    let stage = load::stage(&args.common.input, err)?;
    let actors = load::actors(&stage, &args.common.actor)?;
    let paths: Vec<Vec<u8>> =
        args.directories.iter().map(|path| load::inside_path(path)).collect::<Result<_, _>>()?;
    let rows: Vec<_> = actors.iter().flat_map(|actor| imprints(&stage, actor, &paths)).collect();
    match args.common.format {
        Format::Text => mivask_show::text::imprints(out, &rows, load::layout())?,
        Format::Json => mivask_show::json::imprints(out, &rows)?,
    }
    Ok(End::Answered)
}
