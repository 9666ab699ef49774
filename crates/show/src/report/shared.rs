//! What is shared, in words: for those who cannot see the figure.

use mivask_core::act::quoted;
use mivask_core::handoff::{Handoff, PerUse};
use mivask_core::settle::Outcome;

use crate::safe::safe;

/// A shared directory.
pub(super) struct HandoffView {
    pub place: String,
    pub lines: Vec<String>,
}

impl HandoffView {
    pub(super) fn new(handoff: &Handoff) -> Self {
        let mut lines = Vec::new();
        for creation in &handoff.creations {
            for one in creation.consumers.iter().filter(|one| one.file.is_some() || one.nested.is_some()) {
                lines.push(format!(
                    "{} can {} a file that {} makes, and {} one in a subdirectory that it makes",
                    safe(&one.consumer),
                    uses(one.file.as_ref()),
                    safe(&creation.creator),
                    uses(one.nested.as_ref())
                ));
            }
        }
        let place = match handoff.directory.as_slice() {
            b"/" => safe(&handoff.source),
            below => format!("{}, {}", safe(&handoff.source), quoted(below)),
        };
        Self { place, lines }
    }
}

/// What someone can do with a file, as a list of verbs.
fn uses(uses: Option<&PerUse>) -> String {
    let mut can = Vec::new();
    for (wanted, ended) in uses.iter().flat_map(|uses| uses.iter()) {
        let usually = if ended.usually.is_some() { "usually " } else { "" };
        if ended.certain_or_usual().outcome == Outcome::Allowed {
            can.push(format!("{usually}{}", wanted.word()));
        }
    }
    if can.is_empty() { "do nothing with".to_owned() } else { can.join(", ") }
}
