//! Acts in order, and the directories they changed.

use std::io::{self, Write};

use mivask_core::act::quoted;
use mivask_core::carry::Carried;
use mivask_core::listed::listed;
use mivask_core::mode::symbolic;
use mivask_core::question::{Answer, Line, Listed, Listing};
use mivask_core::rehearse::RehearsalStep;

use super::acts::{INDENT, act, taken_for_granted};
use super::{Layout, paragraph};
use crate::layout::Counted;
use crate::safe::safe;
use crate::style::{BAD, FAINT, GOOD, OPEN, STRONG, paint};
use crate::table::Table;

/// One line of a rehearsal with its outcome.
///
/// # Errors
/// Whatever `out` refuses.
pub fn step(out: &mut dyn Write, step: &RehearsalStep, layout: Layout) -> io::Result<()> {
    match step {
        RehearsalStep::Act { answer, carried } => {
            act(out, answer, layout)?;
            if let Carried::Open(reason) = carried {
                let text = format!("not carried out for the lines below: {}", safe(reason));
                paragraph(out, &paint(OPEN, &text), INDENT, layout)?;
            }
        }
        RehearsalStep::Change { change, notes } => {
            let word = paint(OPEN, "changed");
            writeln!(out, "{word}{}{}", " ".repeat(INDENT - 7), paint(STRONG, &safe(&change.to_string())))?;
            for note in notes {
                paragraph(out, &safe(note), INDENT, layout)?;
            }
        }
    }
    Ok(())
}

/// Lines of assumptions behind a rehearsal, however short.
const LEAST_ROOM: usize = 8;

/// What all the acts took for granted.
///
/// # Errors
/// Whatever `out` refuses.
pub fn rehearsal_assumptions(out: &mut dyn Write, steps: &[RehearsalStep], layout: Layout) -> io::Result<()> {
    let answers: Vec<Answer> = steps.iter().filter_map(RehearsalStep::answer).cloned().collect();
    // A rehearsal has a line for each act, and listings behind them.
    let out = &mut Counted { lines: steps.len().max(LEAST_ROOM), ..Counted::new(out) };
    taken_for_granted(out, &answers, layout)
}

/// The directories that changed: each name with what it was, `host` with owners as they are stored.
///
/// # Errors
/// Whatever `out` refuses.
pub fn listings(out: &mut dyn Write, listings: &[Listing], host: bool, layout: Layout) -> io::Result<()> {
    if listings.is_empty() {
        return writeln!(out, "\nNo directory looks different afterwards.");
    }
    for listing in listings {
        let eyes = match (host, listing.eyes().as_slice()) {
            (true, _) => "ids as stored".to_owned(),
            (false, [one]) => format!("as {} sees it", safe(one)),
            (false, all) => format!("as {} see it", safe(&listed(all))),
        };
        let title = format!("{}  {eyes}  ({})", quoted(&listing.directory), safe(&listing.source));
        writeln!(out, "\n{}", paint(STRONG, &title))?;
        let mut table = Table::new(&["", "before", "", "after", "", "name"]);
        for entry in &listing.entries {
            table.row(row(entry, host));
        }
        write!(out, "{}", table.render(layout.width))?;
        if listing.omitted > 0 {
            writeln!(out, "     and {} more, unchanged", listing.omitted)?;
        }
    }
    Ok(())
}

fn row(entry: &Listed, host: bool) -> Vec<String> {
    let old = entry.before.as_ref();
    let new = entry.after.as_ref();
    let (style, mark) = match (old, new) {
        (None, Some(_)) => (GOOD, "new"),
        (Some(_), None) => (BAD, "gone"),
        (_, _) if entry.changed() => (OPEN, "now"),
        (_, _) => (FAINT, ""),
    };
    let cells = |line: Option<&Line>| match line {
        Some(line) => [letters(line), owner(line, host)],
        None => [paint(FAINT, "-"), String::new()],
    };
    let [old_mode, old_owner] = cells(old);
    let [new_mode, new_owner] =
        if entry.changed() { cells(new) } else { [paint(FAINT, "same"), String::new()] };
    let shown = new.or(old);
    let target = shown.and_then(|line| line.target.as_ref());
    let target = target.map_or_else(String::new, |target| format!(" -> {}", quoted(target)));
    let acl = new.or(old).and_then(|line| line.acl.as_ref());
    let acl = acl.map_or_else(String::new, |acl| format!("  {}", paint(FAINT, acl)));
    let name = format!("{}{target}{acl}", quoted(&entry.name));
    vec![paint(style, mark), old_mode, old_owner, new_mode, new_owner, name]
}

fn letters(line: &Line) -> String {
    match line.mode {
        Some(mode) => {
            let plus = if line.acl.is_some() { "+" } else { "" };
            format!("{}{plus}", symbolic(line.kind, mode))
        }
        None => format!("{}?????????", line.kind.letter()),
    }
}

fn owner(line: &Line, host: bool) -> String {
    let id = crate::words::id;
    if host {
        format!("{}:{}", id(line.disk_uid.map(|id| id.raw())), id(line.disk_gid.map(|id| id.raw())))
    } else {
        format!("{}:{}", id(line.uid.map(|id| id.raw())), id(line.gid.map(|id| id.raw())))
    }
}
