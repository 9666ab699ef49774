//! Answers for people.

mod access;
mod acts;
mod admits;
mod compare;
mod confirm;
mod decode;
mod depends;
mod exposure;
mod handoff;
mod identity;
mod imprints;
mod mounts;
mod overview;
mod rehearse;
mod remedy;
mod survey;
mod upheld;
mod why;

pub use access::{access, access_key};
pub use acts::acts;
pub use admits::{admissions, reached};
pub use compare::compared;
pub use confirm::{confirmed, random_acts};
pub use decode::decoded;
pub use exposure::findings;
pub use handoff::handoffs;
pub use identity::identities;
pub use imprints::imprints;
pub use mounts::mounts;
pub use overview::{overview, swept, swept_titles};
pub use rehearse::{listings, rehearsal_assumptions, step};
pub use remedy::remedies;
pub(crate) use remedy::summary as remedy_summary;
pub use survey::{boundaries, holes, survey};
pub use upheld::{Shown, upheld};
pub use why::why;

use std::collections::BTreeSet;
use std::io::{self, Write};
use std::sync::Arc;

use mivask_core::ids::UNSPECIFIED_ID;
use mivask_core::outcome::Imprint;

use crate::safe::safe;
use crate::style::{STRONG, paint};

/// How text is laid out.
#[derive(Clone, Copy, Debug, Default)]
pub struct Layout {
    /// Columns of the terminal; `None` where the text does not go to one, so that nothing folds.
    pub width: Option<usize>,
}

/// `text` folded at `width`, every line but the first indented by `indent`.
fn folded(text: &str, indent: usize, width: Option<usize>) -> String {
    let room = width.map_or(usize::MAX, |width| width.max(60).saturating_sub(indent));
    let mut out = String::new();
    let mut column = 0;
    for word in text.split(' ') {
        let length = columns(word);
        if column > 0 && column + 1 + length > room {
            out.push('\n');
            out.push_str(&" ".repeat(indent));
            column = 0;
        } else if column > 0 {
            out.push(' ');
            column += 1;
        }
        out.push_str(word);
        column += length;
    }
    out
}

/// How many columns `text` takes; colour codes take none.
fn columns(text: &str) -> usize {
    let mut count = 0;
    let mut in_code = false;
    for c in text.chars() {
        match (in_code, c) {
            (false, '\u{1b}') => in_code = true,
            (false, _) => count += 1,
            (true, 'm') => in_code = false,
            (true, _) => {}
        }
    }
    count
}

/// `text` at `indent`, folded.
fn paragraph(out: &mut dyn Write, text: &str, indent: usize, layout: Layout) -> io::Result<()> {
    writeln!(out, "{}{}", " ".repeat(indent), folded(text, indent, layout.width))
}

/// The assumptions of several answers, each once.
fn assumptions(out: &mut dyn Write, all: &BTreeSet<&Arc<str>>, layout: Layout) -> io::Result<()> {
    if all.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{}", paint(STRONG, "Assumed"))?;
    for text in all {
        paragraph(out, &safe(text), 2, layout)?;
    }
    Ok(())
}

/// An id, or `?` where it depends on something.
pub(crate) fn id(raw: Option<u32>) -> String {
    match raw {
        Some(UNSPECIFIED_ID) | None => "?".to_owned(),
        Some(raw) => raw.to_string(),
    }
}

/// `7101:7300 0644`.
pub(crate) fn imprint(imprint: &Imprint) -> String {
    let mode = imprint.mode.map_or_else(|| "????".to_owned(), |mode| mode.to_string());
    format!("{}:{} {mode}", id(imprint.uid.map(|uid| uid.raw())), id(imprint.gid.map(|gid| gid.raw())))
}

/// The same as stored on the disk, without the mode.
pub(crate) fn stored(imprint: &Imprint) -> String {
    format!("{}:{}", id(imprint.disk_uid.map(|uid| uid.raw())), id(imprint.disk_gid.map(|gid| gid.raw())))
}

/// `, stored as 8101:8200` where the disk keeps other ids than the actor sees.
pub(crate) fn elsewhere(left: &Imprint) -> String {
    let (shown, other) = (imprint(left), stored(left));
    if shown.starts_with(&format!("{other} ")) { String::new() } else { format!(", stored as {other}") }
}
