//! On-disk facts and what is wrong with them, in the words of a description that names them.

use std::ops::Range;

use mivask_disk::error::{At, DiskError};
use mivask_disk::gathered::Holes;

use crate::slip::{Severity, Slips};
use crate::text::SourceText;

/// What a source could not tell; `None` where it told everything.
#[must_use]
pub fn holes(name: &str, holes: Holes) -> Option<String> {
    let parts = [
        (holes.vanished, "went away while they were looked at"),
        (holes.denied, "could not be looked at"),
        (holes.failed, "could not be read"),
    ];
    let told: Vec<String> = parts
        .into_iter()
        .filter(|(count, _)| *count > 0)
        .map(|(count, what)| format!("{count} entries {what}"))
        .collect();
    (!told.is_empty()).then(|| {
        format!("{name} is not whole: {}; answers about them depend on what they are", told.join(", "))
    })
}

/// Adds what is wrong with a source: at its own line where it has one, else where the description names it.
pub fn slip(error: &DiskError, named: (&SourceText, &Range<usize>), slips: &mut Slips) {
    match &error.at {
        At::Line { line, column, text } => {
            let source = SourceText::starting_at(&error.source, text, *line);
            let at = text.char_indices().nth(column - 1).map_or(text.len(), |(at, _)| at);
            let span = at..text.len().max(at);
            slips.add(Severity::Error, &source, &span, error.message.clone(), error.help.clone());
        }
        At::Whole | At::Byte(_) => {
            slips.add(Severity::Error, named.0, named.1, error.to_string(), error.help.clone());
        }
    }
}
