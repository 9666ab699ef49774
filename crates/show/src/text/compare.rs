//! Two scenes: only what differs, grouped by cause.

use std::io::{self, Write};

use mivask_core::act::quoted;
use mivask_core::listed::listed;
use mivask_core::mode::symbolic;
use mivask_core::question::{FileChange, MOST_COMPARED, OutcomeChange, PathFacts};

use super::{Layout, id};
use crate::compare::{Compared, word};
use crate::safe::safe;
use crate::sides::Facet;
use crate::style::{BAD, FAINT, GOOD, OPEN, STRONG, paint};
use crate::table::Table;

/// Paths that are named; more are counted.
const NAMED: usize = 4;

/// Identities, mounts, files, then outcomes that opened, closed or end otherwise.
///
/// # Errors
/// Whatever `out` refuses.
pub fn compared(out: &mut dyn Write, compared: &Compared, layout: Layout<'_>) -> io::Result<()> {
    if compared.partial {
        let text = format!(
            "Only what lies directly in the mounts is compared, since there are more than {MOST_COMPARED} entries: --path names a part."
        );
        super::paragraph(out, &paint(OPEN, &text), 0, layout)?;
    }
    if compared.is_empty() {
        let text = if compared.below.is_empty() {
            "Nothing differs: identities, mounts, what the images hold, and access to what is mounted are the same.".to_owned()
        } else {
            let below: Vec<String> = compared.below.iter().map(|path| quoted(path)).collect();
            format!("Nothing differs: identities, mounts, and access below {} are the same.", listed(&below))
        };
        return super::paragraph(out, &text, 0, layout);
    }
    let mut sections = Sections { out, layout, first: true };
    sections.facets("Identities", &compared.identities)?;
    sections.facets("Mounts", &compared.mounts)?;
    sections.files(&compared.files)?;
    sections.outcomes("Opened", GOOD, &compared.opened)?;
    sections.outcomes("Closed", BAD, &compared.closed)?;
    sections.outcomes("Ends otherwise", OPEN, &compared.other)
}

struct Sections<'a> {
    out: &'a mut dyn Write,
    layout: Layout<'a>,
    first: bool,
}

impl Sections<'_> {
    fn begin(&mut self, title: &str, style: anstyle::Style) -> io::Result<()> {
        if !std::mem::take(&mut self.first) {
            writeln!(self.out)?;
        }
        writeln!(self.out, "{}", paint(style, title))
    }

    fn facets(&mut self, title: &str, rows: &[(Facet, Option<String>)]) -> io::Result<()> {
        if rows.is_empty() {
            return Ok(());
        }
        self.begin(title, STRONG)?;
        let mut table = Table::new(&["about", "what", "before", "after"]);
        let mut previous = "";
        for (facet, after) in rows {
            let about = if facet.subject == previous { String::new() } else { safe(&facet.subject) };
            previous = &facet.subject;
            let cell = |text: &str| if text.is_empty() { paint(FAINT, "-") } else { safe(text) };
            let after = after.as_deref().unwrap_or_default();
            let actor = facet.actor();
            let value = |text: &str| cell(&self.layout.of(actor).field(facet.field, text));
            table.row_of(actor, vec![about, facet.field.to_owned(), value(&facet.value), value(after)]);
        }
        write!(self.out, "{}", table.render(self.layout))
    }

    fn files(&mut self, rows: &[FileChange]) -> io::Result<()> {
        if rows.is_empty() {
            return Ok(());
        }
        self.begin("Files", STRONG)?;
        let mut table = Table::new(&["path", "before", "after", "seen by"]);
        for row in rows.iter().take(LISTED) {
            let before = facts(row.before.as_ref());
            let after = facts(row.after.as_ref());
            // Several who see the same stand in one row.
            let first = row.actor.split(", ").next().unwrap_or_default();
            table.row_of(first, vec![quoted(&row.path), before, after, safe(&row.actor)]);
        }
        write!(self.out, "{}", table.render(self.layout))?;
        match rows.len().saturating_sub(LISTED) {
            0 => Ok(()),
            more => writeln!(self.out, "  and {more} more"),
        }
    }

    fn outcomes(&mut self, title: &str, style: anstyle::Style, rows: &[OutcomeChange]) -> io::Result<()> {
        if rows.is_empty() {
            return Ok(());
        }
        self.begin(title, style)?;
        let mut table = Table::new(&["actor", "what", "before", "after", "paths"]);
        for row in rows {
            let named: Vec<String> = row.paths.iter().take(NAMED).map(|path| quoted(path)).collect();
            let more = row.paths.len().saturating_sub(NAMED);
            let more = if more == 0 { String::new() } else { format!(" and {more} more") };
            table.row(vec![
                safe(&row.actor),
                row.column.word().to_owned(),
                word(row.before).to_owned(),
                word(row.after).to_owned(),
                format!("{}{more}", named.join(" ")),
            ]);
        }
        write!(self.out, "{}", table.render(self.layout))
    }
}

/// Files that are listed; more are counted.
const LISTED: usize = 40;

fn facts(facts: Option<&PathFacts>) -> String {
    let Some(facts) = facts else { return paint(FAINT, "-") };
    let mode = facts.mode.map_or_else(
        || format!("{}?????????", facts.kind.letter()),
        |mode| format!("{} {mode}", symbolic(facts.kind, mode)),
    );
    format!("{mode} {}:{}", id(facts.uid.map(|id| id.raw())), id(facts.gid.map(|id| id.raw())))
}
