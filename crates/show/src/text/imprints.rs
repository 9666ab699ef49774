//! What new files will look like.

use std::io::{self, Write};

use mivask_core::act::quoted;
use mivask_core::mode::symbolic;
use mivask_core::question::ImprintRow;
use mivask_core::settle::Outcome;

use super::depends::Ways;
use super::{Layout, imprint, stored};
use crate::safe::safe;
use crate::style::{STRONG, paint, usual_or};
use crate::table::Table;

/// One block an actor; `rows` come grouped by actor.
///
/// # Errors
/// Whatever `out` refuses.
pub fn imprints(out: &mut dyn Write, rows: &[ImprintRow], layout: Layout<'_>) -> io::Result<()> {
    for (index, group) in rows.chunk_by(|a, b| a.actor == b.actor).enumerate() {
        if index > 0 {
            writeln!(out)?;
        }
        writeln!(out, "{}", paint(STRONG, &safe(&group[0].actor)))?;
        let layout = layout.of(&group[0].actor);
        let mut titles = vec!["in", "new", "asked", "result", "inside", "", "stored"];
        let acls = group.iter().any(|row| acl(row).is_some());
        titles.extend(acls.then_some("acl"));
        let labels = group.iter().any(|row| label(row).is_some());
        titles.extend(labels.then_some("label"));
        let mut table = Table::new(&titles).with_stored(STORED);
        for row in group {
            let mut cells = cells(row);
            cells.extend(acls.then(|| acl(row).unwrap_or_default().to_owned()));
            cells.extend(labels.then(|| safe(label(row).unwrap_or_default())));
            table.row(cells);
        }
        write!(out, "{}", table.render(layout))?;
        for row in group.iter().filter(|row| row.outcome == Outcome::Depends) {
            writeln!(out, "  {} in {}", row.kind.file_kind().word(), quoted(&row.directory))?;
            let ways = Ways {
                all: &row.depends_on,
                usually: row.usually.as_ref(),
                word: "leaves",
                cut_short: false,
            };
            ways.write(out, 4, layout)?;
        }
    }
    Ok(())
}

fn acl(row: &ImprintRow) -> Option<&str> {
    row.imprint.as_ref()?.acl.as_deref()
}

fn label(row: &ImprintRow) -> Option<&str> {
    row.imprint.as_ref()?.label.as_deref()
}

/// The column of owners as the disk keeps them.
const STORED: &[usize] = &[6];

fn cells(row: &ImprintRow) -> Vec<String> {
    let kind = row.kind.file_kind();
    let left = match &row.usually {
        Some(usually) => usually.effect.imprint.as_ref(),
        None => row.imprint.as_ref(),
    };
    let letters = left.and_then(|left| left.mode).map(|mode| symbolic(kind, mode));
    vec![
        quoted(&row.directory),
        kind.word().to_owned(),
        row.requested.to_string(),
        usual_or(row.usually.as_ref().map(|usually| &usually.outcome), &row.outcome),
        left.map(imprint).unwrap_or_default(),
        letters.unwrap_or_default(),
        left.map(stored).unwrap_or_default(),
    ]
}
