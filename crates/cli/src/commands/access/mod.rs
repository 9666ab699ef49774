//! `access`: the matrix.

mod tree;
mod wanted;

use std::cell::Cell;
use std::io::Write;
use std::path::PathBuf;

use mivask_core::question::{AccessRow, access, default_rows};
use mivask_disk::process::Reach;
use mivask_show::{json, sides, text};

use crate::end::{End, Failure};
use crate::options::Common;
use crate::table::Table;
use crate::{load, plain};
use wanted::Condition;

/// Who can read, write, create, delete, list, enter and run what.
///
/// Without a PATH: the mounts the description asks for, and what is known to be directly in them.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  mivask access pod.yaml /data /data/level.csv\n  mivask access tides.scene.yaml /data --tree --where write=denied"
)]
pub(crate) struct Args {
    #[command(flatten)]
    common: Common,
    /// Absolute paths inside the container.
    #[arg(value_name = "PATH")]
    paths: Vec<PathBuf>,
    /// A summary of everything below each PATH: how many entries end how, which checks decide, and which
    /// directories keep the actor out.
    #[arg(long)]
    tree: bool,
    /// With --tree: list the entries, one per line, instead of the summary.
    #[arg(long, requires = "tree")]
    list: bool,
    /// With --tree: only paths that match, such as '/data/**/*.key'; `*` stays within one directory. May be
    /// repeated: one match is enough.
    #[arg(long, requires = "tree", value_name = "GLOB")]
    matching: Vec<String>,
    /// With --tree: only entries with this outcome, such as denied, write=allowed or read=EACCES. May be repeated:
    /// each must hold.
    #[arg(long = "where", requires = "tree", value_name = "[ACT=]OUTCOME")]
    conditions: Vec<Condition>,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let given = plain::paths(&args.common.input, &args.paths);
    let given = if given.is_empty() { plain::first_paths(&args.common.input) } else { given };
    let paths = load::inside_paths(&given)?;
    if args.tree {
        return tree::run(args, &paths, out, err);
    }
    let has_usual = Cell::new(false);
    Table {
        of_files: true,
        reach: Reach { paths: paths.clone(), whole: false },
        ask: &|stage, actor| {
            if paths.is_empty() {
                return default_rows(stage, actor);
            }
            paths.iter().map(|path| access(stage, actor, path)).collect()
        },
        facets: &sides::access,
        text: &|out, rows| {
            has_usual.set(has_usual.get() || rows.iter().any(AccessRow::is_usual));
            text::access(out, rows, load::layout())
        },
        below: &|out| text::access_key(out, has_usual.get(), load::layout()),
        list: "rows",
        json: &json::access,
    }
    .answer(&args.common, out, err)
}
