//! Acts in order, and the directories they changed.

use std::io::{self, Write};

use mivask_core::act::quoted;
use mivask_core::carry::Carried;
use mivask_core::listed::listed;
use mivask_core::mode::symbolic;
use mivask_core::prepare::HOST;
use mivask_core::question::{Answer, Line, Listed, Listing};
use mivask_core::rehearse::{RehearsalStep, Several};
use mivask_core::settle::Outcome;

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
pub fn step(out: &mut dyn Write, step: &RehearsalStep, layout: Layout<'_>) -> io::Result<()> {
    match step {
        RehearsalStep::Act { answer, carried } => {
            act(out, answer, layout)?;
            if let Carried::Open(reason) = carried {
                let text = format!("not carried out for the lines below: {}", safe(reason));
                paragraph(out, &paint(OPEN, &text), INDENT, layout)?;
            }
        }
        RehearsalStep::Several(several) => sum(out, several, layout)?,
        RehearsalStep::Change { change, notes, .. } => {
            let word = paint(OPEN, "changed");
            writeln!(out, "{word}{}{}", " ".repeat(INDENT - 7), paint(STRONG, &safe(&change.to_string())))?;
            for note in notes {
                paragraph(out, &safe(note), INDENT, layout)?;
            }
        }
    }
    Ok(())
}

/// How an act on many paths went: the sum, and the first that did not.
fn sum(out: &mut dyn Write, several: &Several, layout: Layout<'_>) -> io::Result<()> {
    let layout = layout.of(&several.act.actor);
    let Several { done, refused, open, .. } = several;
    let (word, style) = match (done, refused, open) {
        (_, 0, 0) => ("allowed", GOOD),
        (0, _, 0) => ("denied", BAD),
        (_, 0, _) => ("depends", OPEN),
        _ => ("in part", BAD),
    };
    let held = match several.holds() {
        Some(true) => "  (as expected)".to_owned(),
        Some(false) => {
            format!("  ({} not as expected: {})", several.unheld, several.act.expected().unwrap_or_default())
        }
        None => String::new(),
    };
    let act = paint(STRONG, &safe(&several.act.to_string()));
    writeln!(out, "{}{}{act}{held}", paint(style, word), " ".repeat(INDENT - word.len()))?;
    let parts = [(done, "done"), (refused, "refused"), (open, "open, and not carried out")];
    let parts: Vec<String> = parts
        .iter()
        .filter(|(count, _)| **count > 0)
        .map(|(count, what)| format!("{count} {what}"))
        .collect();
    paragraph(out, &listed(&parts), INDENT, layout)?;
    for answer in &several.first {
        let how = match &answer.outcome {
            Outcome::Denied(Some(errno)) => errno.to_string(),
            Outcome::NeverRuns(_) => "never runs".to_owned(),
            Outcome::Denied(None) | Outcome::Allowed | Outcome::Depends => "depends".to_owned(),
        };
        let why = answer.deciding().map_or_else(String::new, |step| {
            let place = if step.path == answer.act.path {
                String::new()
            } else {
                format!("{}: ", safe(&quoted(&step.path)))
            };
            format!(": {place}{}", safe(&step.fact))
        });
        let verb = answer.act.verb.word();
        paragraph(out, &format!("{how} {verb} {}{why}", safe(&quoted(&answer.act.path))), INDENT, layout)?;
    }
    let more = refused + open - several.first.len();
    if more > 0 {
        writeln!(out, "{}and {more} more", " ".repeat(INDENT))?;
    }
    Ok(())
}

/// Lines of assumptions behind a rehearsal, however short.
const LEAST_ROOM: usize = 8;

/// What all the acts took for granted.
///
/// # Errors
/// Whatever `out` refuses.
pub fn rehearsal_assumptions(
    out: &mut dyn Write,
    steps: &[RehearsalStep],
    layout: Layout<'_>,
) -> io::Result<()> {
    let answers: Vec<Answer> = steps.iter().filter_map(RehearsalStep::answer).cloned().collect();
    // A rehearsal has a line for each act, and listings behind them.
    let out = &mut Counted { lines: steps.len().max(LEAST_ROOM), ..Counted::new(out) };
    taken_for_granted(out, &answers, layout)
}

/// Directories that are shown; more are counted.
const MOST_DIRECTORIES: usize = 24;

/// The directories that changed: each name with what it was, `host` with owners as they are stored.
///
/// # Errors
/// Whatever `out` refuses.
pub fn listings(out: &mut dyn Write, listings: &[Listing], host: bool, layout: Layout<'_>) -> io::Result<()> {
    if listings.is_empty() {
        return writeln!(out, "\nNo directory looks different afterwards.");
    }
    for listing in listings.iter().take(MOST_DIRECTORIES) {
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
        let actor = if host { HOST } else { listing.eyes().first().copied().unwrap_or_default() };
        write!(out, "{}", table.render(layout.of(actor)))?;
        if listing.omitted > 0 {
            writeln!(out, "     and {} more, unchanged", listing.omitted)?;
        }
    }
    match listings.len().saturating_sub(MOST_DIRECTORIES) {
        0 => Ok(()),
        more => writeln!(out, "\nand {more} more directories that changed: `--format json` lists them"),
    }
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
