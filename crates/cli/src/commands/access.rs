//! `access`: the matrix.

use std::io::Write;
use std::path::PathBuf;

use mivask_core::question::{AccessRow, access, default_paths};
use mivask_core::stage::Stage;
use mivask_show::sides;

use crate::end::{End, Failure};
use crate::load;
use crate::options::{Common, Format};

/// What each actor can do to each path: read, write, create, delete, list, enter, run.
///
/// Without a PATH: the mounts the description asks for and what is known to lie directly in them.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example: mivask access pod.yaml /data /data/level.csv")]
pub(crate) struct Args {
    #[command(flatten)]
    common: Common,
    /// Absolute paths inside the container.
    #[arg(value_name = "PATH")]
    paths: Vec<PathBuf>,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let mut answer = |stage: &Stage, _: &mut dyn Write| Ok(sides::access(&rows(args, stage)?));
    if let Some(sides) = load::sides(&args.common.input, err, &mut answer)? {
        return load::print_sides(out, &sides, args.common.format == Format::Json);
    }
    let rows = rows(args, &load::stage(&args.common.input, err)?)?;
    match args.common.format {
        Format::Text => mivask_show::text::access(out, &rows, load::layout())?,
        Format::Json => mivask_show::json::access(out, &rows)?,
    }
    Ok(End::Answered)
}

fn rows(args: &Args, stage: &Stage) -> Result<Vec<AccessRow>, Failure> {
    let actors = load::actors(stage, &args.common.actor)?;
    let paths: Vec<Vec<u8>> =
        args.paths.iter().map(|path| load::inside_path(path)).collect::<Result<_, _>>()?;
    let mut rows = Vec::new();
    for actor in actors {
        let own = if paths.is_empty() { default_paths(stage, actor) } else { paths.clone() };
        rows.extend(own.iter().map(|path| access(stage, actor, path)));
    }
    Ok(rows)
}
