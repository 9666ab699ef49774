//! `mounts`: what each actor sees mounted where.

use std::io::Write;

use mivask_core::question::{MountRow, mounts};
use mivask_disk::process::Reach;
use mivask_show::{json, sides, text};

use crate::end::{End, Failure};
use crate::load;
use crate::options::Common;
use crate::table::Table;

/// What is mounted where, and who owns it before and after preparation.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example: mivask mounts station.scene.yaml --actor press")]
pub(crate) struct Args {
    #[command(flatten)]
    common: Common,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let shown = |rows: &[MountRow]| -> Vec<MountRow> {
        rows.iter().filter(|row| crate::terminal::lists_all() || !row.is_default()).cloned().collect()
    };
    Table {
        of_files: true,
        reach: Reach::default(),
        ask: &mounts,
        facets: &|rows| sides::mounts(&shown(rows)),
        text: &|out, rows| text::mounts(out, &shown(rows), load::layout()),
        below: &|_| Ok(()),
        list: "mounts",
        json: &json::mounts,
    }
    .answer(&args.common, out, err)
}
