//! Answers for people.

mod access;
mod acts;
mod confirm;
mod identity;
mod imprints;
mod mounts;
mod why;

pub use access::access;
pub use acts::acts;
pub use confirm::{confirmed, random_acts};
pub use identity::identities;
pub use imprints::imprints;
pub use mounts::mounts;
pub use why::why;

use std::collections::BTreeSet;
use std::io::{self, Write};
use std::sync::Arc;

use anstyle::Style;
use mivask_core::ids::UNSPECIFIED_ID;
use mivask_core::outcome::{Effect, Imprint};
use mivask_core::question::Dependence;

use crate::safe::safe;
use crate::style::{BAD, FAINT, GOOD, STRONG, paint};

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

/// The possibilities of an answer, and what would settle them.
fn dependences(out: &mut dyn Write, all: &[Dependence], indent: usize, layout: Layout) -> io::Result<()> {
    let pad = " ".repeat(indent);
    let labels: Vec<(Style, String)> = all.iter().map(ending).collect();
    let width = labels.iter().map(|(_, label)| label.len()).max().unwrap_or(0) + 2;
    for (one, (style, label)) in all.iter().zip(labels) {
        let when = folded(&format!("when {}", safe(&one.when)), indent + width, layout.width);
        writeln!(out, "{pad}{}{when}", paint(style, &format!("{label:<width$}")))?;
    }
    let settles: BTreeSet<&Arc<str>> = all.iter().flat_map(|one| &one.settle).collect();
    for settle in settles {
        let text = format!("to settle it: {}", safe(settle));
        writeln!(out, "{pad}{}", paint(FAINT, &folded(&text, indent, layout.width)))?;
    }
    Ok(())
}

/// `denied EACCES`, `allowed`, or what an allowed act leaves.
fn ending(one: &Dependence) -> (Style, String) {
    match &one.verdict {
        Err(errno) => (BAD, format!("denied {errno}")),
        Ok(Effect { imprint: Some(left), .. }) if *left != Imprint::default() => {
            (GOOD, format!("leaves {}", imprint(left)))
        }
        Ok(_) => (GOOD, "allowed".to_owned()),
    }
}
