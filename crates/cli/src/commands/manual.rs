//! `manual`: pages for man.

use std::path::PathBuf;

use clap_mangen::Man;

use crate::end::{End, Failure};
use crate::output;

/// Writes manual pages: mivask.1, and one for each command.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example: mivask manual --to ~/.local/share/man/man1 && man mivask-uphold")]
pub(crate) struct Args {
    /// The folder to write them to.
    #[arg(long, value_name = "FOLDER")]
    to: PathBuf,
}

/// Writes the pages of `command`.
pub(crate) fn run(args: &Args, mut command: clap::Command) -> Result<End, Failure> {
    std::fs::create_dir_all(&args.to).map_err(|error| Failure::File { path: args.to.clone(), error })?;
    command.build();
    let write = |name: &str, command: clap::Command| -> Result<(), Failure> {
        let page = Man::new(command).manual("Mivask").source(concat!("mivask ", env!("CARGO_PKG_VERSION")));
        output::replace(&args.to.join(format!("{name}.1")), |file| Ok(page.render(&mut { file })?))
    };
    for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set()) {
        let name = format!("mivask-{}", sub.get_name());
        write(&name, sub.clone())?;
    }
    write("mivask", command)?;
    Ok(End::Answered)
}
