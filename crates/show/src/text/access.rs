//! The matrix.

use std::io::{self, Write};

use mivask_core::act::quoted;
use mivask_core::mode::{Mode, symbolic};
use mivask_core::picked::in_words;
use mivask_core::question::{AccessRow, Column, PathFacts};
use mivask_core::settle::Outcome;

use super::{Layout, folded, id};
use crate::safe::safe;
use crate::style::{FAINT, OPEN, STRONG, USUAL_MARK, cell, paint, usual_cell};
use crate::table::Table;

/// One block an actor; `rows` come grouped by actor.
///
/// # Errors
/// Whatever `out` refuses.
pub fn access(out: &mut dyn Write, rows: &[AccessRow], layout: Layout<'_>) -> io::Result<()> {
    for (index, group) in rows.chunk_by(|a, b| a.actor == b.actor).enumerate() {
        if index > 0 {
            writeln!(out)?;
        }
        writeln!(out, "{}", paint(STRONG, &safe(&group[0].actor)))?;
        let layout = layout.of(&group[0].actor);
        let apart = group.iter().any(|row| on_host(row).is_some());
        let titles: Vec<&str> = TITLES
            .iter()
            .flat_map(|title| match *title {
                "owner" if apart => vec!["owner", "on the host"],
                other => vec![other],
            })
            .collect();
        let mut table = Table::new(&titles);
        for row in group {
            let mut cells = cells(row);
            if apart {
                cells.insert(2, on_host(row).unwrap_or_default());
            }
            table.row(cells);
        }
        if table.fits(layout) {
            write!(out, "{}", table.render(layout))?;
        } else {
            group.iter().try_for_each(|row| stacked(out, row, layout))?;
        }
        for row in group.iter().filter(|row| row.deeper > 0) {
            super::paragraph(out, &paint(OPEN, &not_shown(row)), 2, layout)?;
        }
    }
    Ok(())
}

/// The owner as the host has it, where that is another one than inside.
fn on_host(row: &AccessRow) -> Option<String> {
    let facts = row.facts.as_ref()?;
    let disk = facts.disk?;
    let (uid, gid) = (facts.uid.map(|uid| uid.raw()), facts.gid.map(|gid| gid.raw()));
    let apart = (uid, gid) != (Some(disk.uid.raw()), Some(disk.gid.raw()));
    apart.then(|| format!("{}:{}", in_words(disk.uid.raw()), in_words(disk.gid.raw())))
}

/// How much below a path has no row.
pub(crate) fn not_shown(row: &AccessRow) -> String {
    let path = quoted(&row.path);
    let count = super::survey::grouped(row.deeper as u64);
    let entries = if row.deeper == 1 { "entry" } else { "entries" };
    format!("{path}: {count} {entries} deeper, not shown (--tree {path} counts them all)")
}

/// What the columns of the matrix are about.
///
/// # Errors
/// Whatever `out` refuses.
pub fn access_key(out: &mut dyn Write, has_usual: bool, layout: Layout<'_>) -> io::Result<()> {
    let text = "read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.";
    let text = if has_usual { format!("{text} {}", usual_key()) } else { text.to_owned() };
    writeln!(out, "\n{}", paint(FAINT, &folded(&text, 0, layout.width)))
}

/// What the mark of a cell means.
fn usual_key() -> String {
    format!("{USUAL_MARK}: usually so; `ask` says on what it rests.")
}

/// The same below the list of a tree.
///
/// # Errors
/// Whatever `out` refuses.
pub fn swept_key(out: &mut dyn Write, layout: Layout<'_>) -> io::Result<()> {
    writeln!(out, "\n{}", paint(FAINT, &folded(&usual_key(), 0, layout.width)))
}

const TITLES: [&str; 10] =
    ["path", "owner", "mode", "read", "write", "create", "delete", "list", "enter", "run"];

/// A row on a narrow terminal: the path and what is there, then each answer behind its question.
fn stacked(out: &mut dyn Write, row: &AccessRow, layout: Layout<'_>) -> io::Result<()> {
    let cells = cells(row);
    let host = on_host(row).map(|owner| format!(", {owner} on the host")).unwrap_or_default();
    writeln!(out, "  {}  {} {}{host}", cells[0], cells[2], layout.named(&cells[1]))?;
    let answers = row.cells.iter().zip(&cells[3..]).filter(|((_, asked), _)| asked.is_some());
    let words: Vec<String> = answers.map(|((column, _), cell)| format!("{} {cell}", column.word())).collect();
    // Blanks within an answer must not fold, so each is joined with no-break spaces.
    let line = words.iter().map(|word| word.replace(' ', "\u{a0}")).collect::<Vec<_>>().join("  ");
    writeln!(out, "      {}", folded(&line, 6, layout.width).replace('\u{a0}', " "))
}

fn cells(row: &AccessRow) -> Vec<String> {
    let facts = row.facts.as_ref();
    let owner = facts.map_or_else(String::new, |facts| {
        format!("{}:{}", id(facts.uid.map(|uid| uid.raw())), id(facts.gid.map(|gid| gid.raw())))
    });
    let mode = match facts {
        None if row.missing => paint(FAINT, "missing"),
        None => paint(OPEN, "not known"),
        Some(PathFacts { kind, mode: Some(mode), .. }) => format!("{} {mode}", symbolic(*kind, *mode)),
        Some(PathFacts { kind, mode: None, .. }) => format!("{} {}", kind.word(), paint(OPEN, "not known")),
    };
    let mut cells = vec![quoted(&row.path), owner, mode];
    // That a file of data does not run is true, but nothing to look at.
    let data = facts.and_then(|facts| facts.mode).is_some_and(|mode| !mode.has_any(Mode::ANY_EXECUTE));
    cells.extend(row.cells.iter().map(|(column, outcome)| match outcome.as_ref().and_then(Outcome::errno) {
        Some(errno) if data && column == Column::Run || row.mount_point && column == Column::Delete => {
            paint(FAINT, errno.name())
        }
        Some(_) | None => match row.usually.of(column) {
            Some(usual) => usual_cell(usual),
            None => cell(outcome.as_ref()),
        },
    }));
    cells
}
