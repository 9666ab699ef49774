//! `mounts`: what each actor sees mounted where.

use std::io::Write;

use mivask_core::question::{MountRow, mounts};
use mivask_show::{json, sides, text};

use crate::end::{End, Failure};
use crate::load::{self, Table};
use crate::options::Common;

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
    let shown = |mut rows: Vec<MountRow>| {
        rows.retain(|row| args.all || !row.is_default());
        rows
    };
    Table {
        ask: &mounts,
        facets: &|rows| sides::mounts(&shown(rows.to_vec())),
        text: &|out, rows| text::mounts(out, &shown(rows), load::layout()),
        json: &|out, rows| json::mounts(out, &rows),
    }
    .answer(&args.common, out, err)
}
