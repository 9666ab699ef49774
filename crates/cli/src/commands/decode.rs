//! `decode`: what a mode says.

use std::io::Write;
use std::str::FromStr;

use clap::ValueEnum;
use mivask_core::mode::{FileKind, Mode, ModeChange, NotationError, Written};
use mivask_core::question::{Decoded, decode};
use mivask_show::{json, text};

use crate::end::{CommandError, End, Failure};
use crate::load::layout;
use crate::options::Format;

/// What a mode means, and what a change or a umask makes of it.
///
/// In octal, letters and bits, with what each class may do and anything odd about it. With --umask alone, what that umask leaves of
/// what programs ask for; with nothing at all, the modes that people use, side by side.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  mivask decode 2750\n  mivask decode drwxr-x--- g+w --umask 0027\n  mivask decode 0600 u=rwX,go=rX --kind dir\n  mivask decode '-rw-r----- 1 scribe hive 120 notes'\n  mivask decode --umask 027"
)]
pub(crate) struct Args {
    /// Octal (0750, 100644), letters (rwxr-x---, drwxr-s---), clauses (u=rwx,g=rx,o=), or a line of a long listing.
    #[arg(value_name = "MODE", allow_hyphen_values = true)]
    mode: Option<Line>,
    /// What to change: octal, or POSIX clauses such as g+w,o= with X, s, t and u|g|o.
    #[arg(value_name = "CHANGE", allow_hyphen_values = true)]
    change: Option<ModeChange>,
    /// Clauses that someone wrote apart.
    #[arg(hide = true)]
    more: Vec<String>,
    /// The umask of whoever changes or creates: octal, or clauses of what it lets through (u=rwx,g=rx,o=).
    #[arg(long, value_name = "MODE")]
    umask: Option<Umask>,
    /// The kind of file; both if neither this nor the first letter of MODE says.
    #[arg(long, value_name = "KIND")]
    kind: Option<Kind>,
    /// How to print the answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    format: Format,
}

/// A mode as it was written, alone or at the beginning of a line of a long listing.
#[derive(Clone, Debug)]
struct Line {
    text: String,
    written: Written,
    /// Owner and group of the line, as words.
    owners: Option<(String, String)>,
}

impl FromStr for Line {
    type Err = NotationError;

    fn from_str(text: &str) -> Result<Self, NotationError> {
        let words: Vec<&str> = text.split_whitespace().collect();
        // Letters, links, owner, group, and what follows.
        if let [letters, links, owner, group, _, ..] = words.as_slice()
            && links.bytes().all(|byte| byte.is_ascii_digit())
        {
            let owners = Some(((*owner).to_owned(), (*group).to_owned()));
            return Ok(Self { text: (*letters).to_owned(), written: letters.parse()?, owners });
        }
        Ok(Self { text: text.to_owned(), written: text.parse()?, owners: None })
    }
}

/// A umask as it was written: the bits that it takes.
#[derive(Clone, Copy, Debug)]
struct Umask(Mode);

impl FromStr for Umask {
    type Err = mivask_core::mode::ModeError;

    /// Octal, or clauses of what it lets through (`umask -S`, POSIX `umask`).
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let everything = Mode::new(0o777);
        Ok(Self(match text.parse::<ModeChange>()? {
            ModeChange::Exact(mask) => mask,
            let_through => {
                everything.without(let_through.applied_to(Mode::default(), false, Mode::default()))
            }
        }))
    }
}

/// A change in several words.
#[derive(Debug, thiserror::Error)]
#[error("a change is one word: write its clauses with commas, `{0}`")]
struct SeveralWords(String);

impl CommandError for SeveralWords {}

/// Kinds that a mode is decoded for.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
enum Kind {
    /// A regular file.
    File,
    /// A directory.
    Dir,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<End, Failure> {
    let change = args.change.as_ref();
    if let (Some(first), false) = (change, args.more.is_empty()) {
        return Err(SeveralWords(format!("{first},{}", args.more.join(","))).into());
    }
    let umask = args.umask.map(|Umask(mask)| mask);
    let Some(line) = &args.mode else {
        match (args.format, umask) {
            (Format::Text, Some(umask)) => text::umask(out, umask)?,
            (Format::Text, None) => text::common_modes(out, layout())?,
            (Format::Json, Some(umask)) => json::decoded(out, &left_by(umask))?,
            (Format::Json, None) => json::decoded(out, &common())?,
        }
        return Ok(End::Answered);
    };
    let named = args.kind.map(|kind| match kind {
        Kind::File => FileKind::File,
        Kind::Dir => FileKind::Directory,
    });
    let kinds = match named.or(line.written.kind) {
        Some(kind) => vec![kind],
        None => vec![FileKind::File, FileKind::Directory],
    };
    let rows: Vec<_> = kinds.into_iter().map(|kind| decode(line.written.mode, kind, change, umask)).collect();
    match args.format {
        Format::Text => {
            let about = text::About {
                change,
                umask,
                owners: line.owners.as_ref().map(|(owner, group)| (owner.as_str(), group.as_str())),
                decimal: Mode::in_decimal(&line.text),
            };
            text::decoded(out, &rows, &about, layout())?;
        }
        Format::Json => json::decoded(out, &rows)?,
    }
    Ok(End::Answered)
}

/// What a umask leaves of what programs ask for.
fn left_by(umask: Mode) -> Vec<Decoded> {
    let asked = [(0o666, FileKind::File), (0o777, FileKind::Directory), (0o777, FileKind::File)];
    asked.map(|(mode, kind)| decode(Mode::new(mode), kind, None, Some(umask))).into()
}

fn common() -> Vec<Decoded> {
    let kinds = [FileKind::File, FileKind::Directory];
    Mode::common().flat_map(|mode| kinds.map(|kind| decode(mode, kind, None, None))).collect()
}
