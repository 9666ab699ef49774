//! `access`: the matrix.

use std::io::Write;
use std::path::PathBuf;

use mivask_core::question::{access, default_paths};
use mivask_show::{json, sides, text};

use crate::end::{End, Failure};
use crate::load;
use crate::options::Common;
use crate::table::Table;

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
    let paths = load::inside_paths(&args.paths)?;
    Table {
        ask: &|stage, actor| {
            let own = if paths.is_empty() { default_paths(stage, actor) } else { paths.clone() };
            own.iter().map(|path| access(stage, actor, path)).collect()
        },
        facets: &sides::access,
        text: &|out, rows| text::access(out, rows, load::layout()),
        below: &|out| text::access_key(out, load::layout()),
        list: "rows",
        json: &json::access,
    }
    .answer(&args.common, out, err)
}
