//! `identity`: who each actor is.

use std::io::Write;

use mivask_core::mount::MountTable;
use mivask_core::stage::Actor;
use mivask_disk::process::Reach;
use mivask_show::{json, sides, text};

use crate::end::{End, Failure};
use crate::load;
use crate::options::Common;
use crate::table::Table;

/// Which UID, GID, groups and capabilities each actor gets, and where each number comes from.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example: mivask identity pod.yaml --actor gauge")]
pub(crate) struct Args {
    #[command(flatten)]
    common: Common,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    Table {
        of_files: false,
        reach: Reach::default(),
        // Of what an actor sees nothing is shown here, so it need not stay.
        ask: &|_, actor| vec![Actor { mounts: MountTable::default(), ..actor.clone() }],
        facets: &sides::identities,
        text: &|out, actors| text::identities(out, actors, load::layout()),
        below: &|_| Ok(()),
        list: "actors",
        json: &json::identities,
    }
    .answer(&args.common, out, err)
}
