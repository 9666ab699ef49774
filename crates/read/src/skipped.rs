//! Documents that are skipped over: counted, and told in one note.

use std::collections::BTreeMap;
use std::ops::Range;

use crate::diagnostic::{Diagnostics, Severity};
use crate::text::SourceText;

/// Objects that neither run containers nor say anything about files.
#[derive(Debug, Default)]
pub struct Skipped {
    kinds: BTreeMap<String, usize>,
    first: Option<(SourceText, Range<usize>)>,
}

impl Skipped {
    /// One more object of `kind`, whose kind is at `span`.
    pub(crate) fn add(&mut self, kind: &str, source: &SourceText, span: &Range<usize>) {
        *self.kinds.entry(kind.to_owned()).or_default() += 1;
        self.first.get_or_insert_with(|| (source.clone(), span.clone()));
    }

    /// Says what was skipped over, once.
    pub fn report(self, diagnostics: &mut Diagnostics) {
        let Some((source, span)) = self.first else { return };
        let total: usize = self.kinds.values().sum();
        let counted = |(kind, count): (&String, &usize)| {
            if *count == 1 { kind.clone() } else { format!("{kind} ({count})") }
        };
        let kinds: Vec<String> = self.kinds.iter().map(counted).collect();
        let what = if total == 1 { "object skipped: it runs" } else { "objects skipped: they run" };
        let message = format!("{total} {what} no container here: {}", kinds.join(", "));
        diagnostics.add(Severity::Note, &source, &span, message, None);
    }
}
