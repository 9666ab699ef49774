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

pub use crate::layout::Layout;
use crate::layout::{folded, paragraph};
use crate::safe::safe;
use crate::style::{STRONG, paint};
use crate::words::{elsewhere, id, imprint, stored};

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
