//! `decode`: what a mode says.

use std::io::Write;

use clap::ValueEnum;
use mivask_core::mode::{FileKind, Mode, ModeChange, Written};
use mivask_core::question::decode;
use mivask_show::{json, text};

use crate::end::{End, Failure};
use crate::load::layout;
use crate::options::Format;

/// What a mode means, and what a change or a umask makes of it.
///
/// In octal, letters and bits, with what each class may do and anything odd about it.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  mivask decode 2750\n  mivask decode drwxr-x--- g+w --umask 0027\n  mivask decode 0600 u=rwX,go=rX --kind dir"
)]
pub(crate) struct Args {
    /// Octal (0750, 100644), letters (rwxr-x---, drwxr-s---) or clauses (u=rwx,g=rx,o=).
    #[arg(value_name = "MODE", allow_hyphen_values = true)]
    mode: Written,
    /// What to change: octal, or POSIX clauses such as g+w,o= with X, s, t and u|g|o.
    #[arg(value_name = "CHANGE", allow_hyphen_values = true)]
    change: Option<ModeChange>,
    /// The umask of whoever changes or creates.
    #[arg(long, value_name = "MODE")]
    umask: Option<Mode>,
    /// The kind of file; both if neither this nor the first letter of MODE says.
    #[arg(long, value_name = "KIND")]
    kind: Option<Kind>,
    /// How to print the answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    format: Format,
}

/// Kinds that a mode is decoded for.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
enum Kind {
    /// A regular file.
    File,
    /// A directory.
    Dir,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<End, Failure> {
    let named = args.kind.map(|kind| match kind {
        Kind::File => FileKind::File,
        Kind::Dir => FileKind::Directory,
    });
    let kinds = match named.or(args.mode.kind) {
        Some(kind) => vec![kind],
        None => vec![FileKind::File, FileKind::Directory],
    };
    let rows: Vec<_> = kinds
        .into_iter()
        .map(|kind| decode(args.mode.mode, kind, args.change.as_ref(), args.umask))
        .collect();
    match args.format {
        Format::Text => text::decoded(out, &rows, args.change.as_ref(), args.umask, layout())?,
        Format::Json => json::decoded(out, &rows)?,
    }
    Ok(End::Answered)
}
