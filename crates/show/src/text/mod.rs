//! Answers for people.

pub(crate) mod access;
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
mod settle;
mod survey;
mod upheld;
mod why;

pub use access::{access, access_key, swept_key};
pub use acts::acts;
pub use admits::{admissions, reached};
pub use compare::compared;
pub use confirm::{confirmed, random_acts};
pub use decode::{About, common_modes, decoded, umask};
pub use exposure::findings;
pub use handoff::handoffs;
pub use identity::identities;
pub(crate) use identity::place;
pub use imprints::imprints;
pub use mounts::mounts;
pub use overview::{overview, swept, swept_titles};
pub use rehearse::{listings, rehearsal_assumptions, step};
pub(crate) use remedy::summary as remedy_summary;
pub use remedy::{over_tree, remedies, together};
pub use survey::{
    Kept, boundaries, dataset, holes, kept, missing_facts, not_in_dataset, not_mounted, survey, verdicts,
};
pub use upheld::{Shown, upheld};
pub use why::why;

use std::collections::BTreeSet;
use std::io::{self, Write};
use std::sync::Arc;

pub use crate::layout::Layout;
use crate::layout::{Counted, folded, paragraph};
use crate::safe::safe;
use crate::style::{STRONG, paint};
use crate::words::{id, imprint, stored};

/// The assumptions of several answers, each once: no more lines than the answer has, unless all are asked for.
fn assumptions(out: &mut Counted<'_>, all: &BTreeSet<&Arc<str>>, layout: Layout<'_>) -> io::Result<()> {
    const INDENT: usize = 2;
    let texts: Vec<String> = all.iter().map(|text| folded(&safe(text), INDENT, layout.width)).collect();
    let height = |text: &String| text.lines().count();
    let needed = 1 + texts.iter().map(height).sum::<usize>();
    let room = if layout.all_assumptions { usize::MAX } else { out.lines };
    let heading = paint(STRONG, "Assumed");
    match texts.as_slice() {
        [] => return Ok(()),
        [first, rest @ ..] if needed > room && room < 3 => {
            let more = match rest.len() {
                0 => String::new(),
                count => format!(" (and {count} more: --all-assumptions)"),
            };
            return writeln!(out, "\n{heading}: {first}{more}");
        }
        _ => {}
    }
    writeln!(out, "\n{heading}")?;
    // The heading, and the line that counts the rest.
    let mut left = if needed > room { room - 2 } else { usize::MAX };
    for (index, text) in texts.iter().enumerate() {
        if height(text) > left {
            return writeln!(out, "  and {} more: --all-assumptions", texts.len() - index);
        }
        left -= height(text);
        writeln!(out, "{}{text}", " ".repeat(INDENT))?;
    }
    Ok(())
}
