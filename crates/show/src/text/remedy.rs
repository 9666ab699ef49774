//! What would let a denied act succeed.

use std::io::{self, Write};

use mivask_core::act::quoted;
use mivask_core::question::{Answer, OutcomeChange};
use mivask_core::remedy::{MOST_TRIED, Remedies, Remedy, Standing, Together, TreeRemedies};
use mivask_core::settle::Outcome;

use super::acts::act;
use super::{Layout, paragraph};
use crate::remedy::{PatchedFile, Written};
use crate::safe::safe;
use crate::shell;
use crate::style::{BAD, FAINT, GOOD, OPEN, STRONG, paint};

/// Columns taken by number and side.
const INDENT: usize = 12;
/// Things that open, and paths of each, which are named.
const NAMED: usize = 3;

/// The act, then each remedy with what else it opens and what to paste. `written` has the patches, `most` says how many
/// are shown.
///
/// # Errors
/// Whatever `out` refuses.
pub fn remedies(
    out: &mut dyn Write,
    found: &Remedies,
    written: &[Written],
    most: usize,
    layout: Layout<'_>,
) -> io::Result<()> {
    let mended = match &found.standing {
        Some(standing) => stands(out, standing, layout)?,
        None => {
            act(out, &found.answer, layout)?;
            found.answer.outcome == Outcome::Allowed && found.answer.holds() != Some(false)
        }
    };
    if mended {
        return writeln!(out, "\nThere is nothing to mend.");
    }
    if let Some(besides) = &found.besides {
        writeln!(out)?;
        paragraph(out, &safe(besides), INDENT, layout)?;
    }
    if !found.as_usual.is_empty() && !found.remedies.is_empty() {
        writeln!(out, "\n{}", paint(OPEN, "Where that is as usual:"))?;
    }
    if found.remedies.is_empty() && is_usually_allowed(found) {
        return writeln!(out, "\nUsually there is nothing to mend.");
    }
    if found.remedies.is_empty() {
        let unknown = found.standing.as_ref().is_some_and(|one| one.open.is_some());
        let word = match found.answer.outcome {
            Outcome::Allowed if unknown => "What would help depends on missing facts.",
            Outcome::Depends | Outcome::Denied(None) => "What would help depends on missing facts.",
            Outcome::Allowed | Outcome::Denied(_) | Outcome::NeverRuns(_) => "Nothing narrow helps.",
        };
        writeln!(out, "\n{}", paint(BAD, word))?;
    } else {
        writeln!(out)?;
    }
    for (number, (remedy, written)) in found.remedies.iter().zip(written).take(most).enumerate() {
        one(out, number + 1, remedy, written, layout)?;
    }
    let more = found.remedies.len().saturating_sub(most);
    if more > 0 {
        let noun = if more == 1 { "wider one" } else { "wider ones" };
        writeln!(out, "{}", paint(FAINT, &format!("and {more} {noun}: --most {}", found.remedies.len())))?;
    }
    if found.bounded {
        let text = format!("not every combination was tried: {MOST_TRIED} are the most");
        writeln!(out, "{}", paint(OPEN, &text))?;
    }
    if let Some(hint) = found.hint.as_ref()
        && found.remedies.is_empty()
    {
        paragraph(out, &safe(hint), 0, layout)?;
    }
    Ok(())
}

fn is_usually_allowed(found: &Remedies) -> bool {
    found.answer.usually.as_ref().is_some_and(|usually| usually.outcome == Outcome::Allowed)
}

/// Several acts, what makes them all succeed, and what is left. `written` has the patch of each file.
///
/// # Errors
/// Whatever `out` refuses.
pub fn together(
    out: &mut dyn Write,
    found: &Together,
    written: &Written,
    layout: Layout<'_>,
) -> io::Result<()> {
    let is_left = |answer: &Answer| found.left.iter().any(|(left, _)| left.act == answer.act);
    for answer in &found.answers {
        let (style, word) = match answer.outcome {
            Outcome::Allowed if answer.holds() != Some(false) => (GOOD, "allowed now"),
            _ if is_left(answer) => (BAD, "not mended"),
            Outcome::Allowed | Outcome::Denied(_) | Outcome::Depends | Outcome::NeverRuns(_) => {
                (GOOD, "mended")
            }
        };
        let act = safe(&answer.act.to_string());
        writeln!(out, "{} {}", paint(style, &format!("{word:<INDENT$}")), paint(STRONG, &act))?;
    }
    writeln!(out)?;
    match &found.remedy {
        Some(remedy) => one(out, 1, remedy, written, layout)?,
        None if found.left.is_empty() => writeln!(out, "There is nothing to mend.")?,
        None => writeln!(out, "{}", paint(BAD, "Nothing narrow helps."))?,
    }
    if !found.left.is_empty() {
        writeln!(out)?;
    }
    for (answer, hint) in &found.left {
        act(out, answer, layout)?;
        if let Some(hint) = hint {
            paragraph(out, &safe(hint), INDENT, layout)?;
        }
    }
    Ok(())
}

/// An act on a whole tree, and how much of it each remedy reaches. `written` has the patches, `most` says how many are shown.
///
/// # Errors
/// Whatever `out` refuses.
pub fn over_tree(
    out: &mut dyn Write,
    found: &TreeRemedies,
    written: &[Written],
    most: usize,
    layout: Layout<'_>,
) -> io::Result<()> {
    let refused = found.paths - found.allowed - found.open;
    let (style, word) = match (refused, found.open) {
        (0, 0) => (GOOD, "allowed"),
        (0, _) => (OPEN, "depends"),
        (_, _) => (BAD, "denied"),
    };
    let act = safe(&found.act.to_string());
    writeln!(out, "{} {}", paint(style, &format!("{word:<INDENT$}")), paint(STRONG, &act))?;
    let open = if found.open == 0 {
        String::new()
    } else {
        format!(", {} depend{} on missing facts", found.open, if found.open == 1 { "s" } else { "" })
    };
    let counts = format!("{refused} of {} paths are refused{open}", found.paths);
    paragraph(out, &counts, INDENT + 1, layout)?;
    if refused == 0 {
        let facts = "What would help depends on missing facts.";
        return writeln!(out, "\n{}", if found.open > 0 { facts } else { "There is nothing to mend." });
    }
    writeln!(out)?;
    if found.remedies.is_empty() {
        writeln!(out, "{}", paint(BAD, "Nothing that is one for all of it helps."))?;
        let text = "ask for one of the refused paths: its remedies may be changes of that path alone";
        return paragraph(out, text, 0, layout);
    }
    for (number, ((remedy, reached), written)) in found.remedies.iter().zip(written).take(most).enumerate() {
        head(out, number + 1, remedy)?;
        let all = *reached == found.paths;
        let text = format!(
            "reaches {} of {}",
            if all { "all".to_owned() } else { reached.to_string() },
            found.paths
        );
        paragraph(out, &paint(if all { GOOD } else { OPEN }, &text), INDENT, layout)?;
        body(out, remedy, written, layout)?;
    }
    let more = found.remedies.len().saturating_sub(most);
    if more > 0 {
        writeln!(out, "{}", paint(FAINT, &format!("and {more} more: --most {}", found.remedies.len())))?;
    }
    Ok(())
}

/// How a limit stands, and whether it holds.
fn stands(out: &mut dyn Write, standing: &Standing, layout: Layout<'_>) -> io::Result<bool> {
    let layout = layout.of(&standing.actor);
    let who = &standing.actor;
    let (style, word, why) = match (&standing.wider, &standing.fact) {
        (Some(wider), Some(fact)) => (BAD, "too wide", format!("{fact}, as {who} sees it: {wider}")),
        (_, Some(fact)) => (GOOD, "holds", format!("{fact}, as {who} sees it")),
        (_, None) => match &standing.open {
            Some(open) => (OPEN, "depends", format!("not known: {open}")),
            None => (OPEN, "missing", format!("nothing is there, as {who} sees it")),
        },
    };
    let sentence = safe(&standing.limit.to_string());
    writeln!(out, "{} {}", paint(style, &format!("{word:<11}")), paint(STRONG, &sentence))?;
    paragraph(out, &safe(&why), INDENT, layout)?;
    if standing.again && standing.fact.is_some() {
        let text = "the filesystem-group step widens it whenever the volume is mounted";
        paragraph(out, &paint(OPEN, text), INDENT, layout)?;
    }
    Ok(standing.holds() && !standing.again)
}

fn one(
    out: &mut dyn Write,
    number: usize,
    remedy: &Remedy,
    written: &Written,
    layout: Layout<'_>,
) -> io::Result<()> {
    head(out, number, remedy)?;
    body(out, remedy, written, layout)
}

/// Its number and changes.
fn head(out: &mut dyn Write, number: usize, remedy: &Remedy) -> io::Result<()> {
    if number > 1 {
        writeln!(out)?;
    }
    for (at, step) in remedy.steps.iter().enumerate() {
        let number = if at == 0 { number.to_string() } else { String::new() };
        let head = format!("{number:<3}{:<9}", step.side.word());
        writeln!(out, "{head}{}", paint(STRONG, &safe(&step.change.to_string())))?;
    }
    Ok(())
}

/// What follows from it, and what to paste.
fn body(out: &mut dyn Write, remedy: &Remedy, written: &Written, layout: Layout<'_>) -> io::Result<()> {
    paragraph(out, &summary(remedy), INDENT, layout)?;
    if let Some(undone) = &remedy.undone {
        paragraph(out, &paint(OPEN, &format!("does not last: {}", safe(undone))), INDENT, layout)?;
    }
    for broken in &remedy.breaks {
        let text = format!("breaks what the scene expects: {}", safe(broken));
        paragraph(out, &paint(BAD, &text), INDENT, layout)?;
    }
    for note in &remedy.notes {
        paragraph(out, &paint(FAINT, &safe(note)), INDENT, layout)?;
    }
    let margin = " ".repeat(INDENT);
    for line in shell::commands(remedy, &written.images) {
        let comment = line.starts_with('#');
        writeln!(out, "{margin}{}", if comment { paint(FAINT, &line) } else { line })?;
    }
    written.files.iter().try_for_each(|file| patch(out, file, layout))
}

/// The patch of one file, and what it does not take.
fn patch(out: &mut dyn Write, written: &PatchedFile, layout: Layout<'_>) -> io::Result<()> {
    let margin = " ".repeat(INDENT);
    for line in written.diff.lines() {
        let style = match line.as_bytes() {
            [b'+', b'+', b'+', ..] | [b'-', b'-', b'-', ..] => STRONG,
            [b'+', ..] => GOOD,
            [b'-', ..] => BAD,
            _ => FAINT,
        };
        writeln!(out, "{margin}{}", paint(style, &safe(line)))?;
    }
    for problem in &written.problems {
        paragraph(out, &paint(OPEN, &safe(problem)), INDENT, layout)?;
    }
    Ok(())
}

/// What else it opens and how many inodes it touches.
pub(crate) fn summary(remedy: &Remedy) -> String {
    let opened = match remedy.opens() {
        0 => "opens nothing else".to_owned(),
        count => {
            let named: Vec<String> =
                remedy.opened.iter().take(NAMED).map(|row| changed(row, "can")).collect();
            format!("opens {count} more: {}", named.join("; "))
        }
    };
    let closes = match remedy.closes() {
        0 => String::new(),
        count => {
            let named: Vec<String> =
                remedy.closed.iter().take(NAMED).map(|row| changed(row, "can no longer")).collect();
            format!("; takes {count} away: {}", named.join("; "))
        }
    };
    let inodes = match remedy.inodes {
        0 => String::new(),
        1 => "; touches 1 inode".to_owned(),
        count => format!("; touches {count} inodes"),
    };
    let partial =
        if remedy.partial { " (looked for directly in the mounts only: the trees are large)" } else { "" };
    format!("{opened}{partial}{closes}{inodes}")
}

/// `press can read /data/x, /data/y, /data/z and 2 more`, or `can no longer`.
fn changed(row: &OutcomeChange, can: &str) -> String {
    let path = row.paths.iter().take(NAMED).map(|path| quoted(path)).collect::<Vec<_>>().join(", ");
    let more = match row.paths.len().saturating_sub(NAMED) {
        0 => String::new(),
        count => format!(" and {count} more"),
    };
    format!("{} {can} {} {path}{more}", safe(&row.actor), row.column.word())
}
