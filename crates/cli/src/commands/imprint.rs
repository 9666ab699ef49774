//! `imprint`: what new files will look like.

use std::io::Write;
use std::path::PathBuf;

use mivask_core::question::imprints;
use mivask_disk::process::Reach;
use mivask_show::{json, sides, text};

use crate::end::{End, Failure};
use crate::load;
use crate::options::Common;
use crate::plain;
use crate::table::Table;

/// Owner, group and mode of new files and directories.
///
/// As the actor sees them, and as stored.
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
    let paths = load::inside_paths(&plain::paths(&args.common.input, &args.directories))?;
    Table {
        of_files: true,
        reach: Reach { paths: paths.clone(), whole: false },
        ask: &|stage, actor| imprints(stage, actor, &paths),
        facets: &sides::imprints,
        text: &|out, rows| text::imprints(out, rows, load::layout()),
        below: &|_| Ok(()),
        list: "rows",
        json: &json::imprints,
    }
    .answer(&args.common, out, err)
}
