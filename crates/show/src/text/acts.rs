//! Acts answered one by one.

use std::collections::BTreeSet;
use std::io::{self, Write};

use mivask_core::act::quoted;
use mivask_core::question::Answer;
use mivask_core::settle::Outcome;

use super::depends::Ways;
use super::{Layout, assumptions, paragraph, settle};
use crate::layout::Counted;
use crate::safe::safe;
use crate::style::{BAD, FAINT, OPEN, STRONG, outcome, paint};
use crate::words::{found, ran};

/// Columns taken by the outcome.
pub(super) const INDENT: usize = 15;

/// Each act with its outcome and the reason, then what was taken for granted.
///
/// # Errors
/// Whatever `out` refuses.
pub fn acts(out: &mut dyn Write, answers: &[Answer], layout: Layout<'_>) -> io::Result<()> {
    let out = &mut Counted::new(out);
    let settled_below = settle::is_shared(answers);
    for answer in answers {
        act(out, answer, Layout { settled_below, ..layout })?;
    }
    if settled_below {
        settle::settle(out, answers, layout)?;
    }
    taken_for_granted(out, answers, layout)
}

/// The assumptions of all answers.
pub(super) fn taken_for_granted(
    out: &mut Counted<'_>,
    answers: &[Answer],
    layout: Layout<'_>,
) -> io::Result<()> {
    let all: BTreeSet<_> = answers.iter().flat_map(|answer| &answer.assumptions).collect();
    assumptions(out, &all, layout)
}

/// The outcome padded to its column; colour codes do not count.
fn padded(answer: &Answer) -> String {
    let (shown, before) = match &answer.usually {
        Some(usually) => (&usually.outcome, "usually "),
        None => (&answer.outcome, ""),
    };
    let plain = before.len()
        + match shown.errno() {
            Some(errno) => 7 + errno.name().len(),
            None => shown.word().len(),
        };
    let before = paint(OPEN, before);
    format!("{before}{}{}", outcome(shown), " ".repeat(INDENT.saturating_sub(plain).max(1)))
}

pub(super) fn act(out: &mut dyn Write, answer: &Answer, layout: Layout<'_>) -> io::Result<()> {
    let layout = layout.of(&answer.act.actor);
    let sentence = safe(&answer.act.to_string());
    let note = match answer.holds() {
        Some(true) => paint(FAINT, "  (as expected)"),
        Some(false) | None => String::new(),
    };
    writeln!(out, "{}{}{note}", padded(answer), paint(STRONG, &sentence))?;
    reason(out, answer, layout)?;
    // Where possibilities differ, each says itself what it leaves.
    if let (Some(left), true) = (&answer.effect.imprint, answer.depends_on.is_empty()) {
        paragraph(out, &found(&answer.act.verb, left), INDENT, layout)?;
    }
    if let Some(runs_as) = answer.effect.runs_as
        && answer.outcome == Outcome::Allowed
    {
        paragraph(out, &ran(&runs_as), INDENT, layout)?;
    }
    if let (Some(false), Some(expected)) = (answer.holds(), answer.act.expected()) {
        writeln!(out, "{}{}", " ".repeat(INDENT), paint(BAD, &format!("NOT as expected: {expected}")))?;
    }
    Ok(())
}

/// Why it is not simply allowed.
fn reason(out: &mut dyn Write, answer: &Answer, layout: Layout<'_>) -> io::Result<()> {
    if let Outcome::NeverRuns(refusal) = &answer.outcome {
        paragraph(out, &format!("{}: {}", refusal.class, safe(&refusal.reason)), INDENT, layout)?;
        return paragraph(out, &safe(&refusal.from.to_string()), INDENT, layout);
    }
    if !answer.depends_on.is_empty() {
        let ways = Ways {
            all: &answer.depends_on,
            usually: answer.usually.as_ref(),
            word: answer.act.verb.imprint_word(),
            cut_short: answer.cut_short,
        };
        return ways.write(out, INDENT, layout);
    }
    if let (Outcome::Denied(_), Some(step)) = (&answer.outcome, answer.deciding()) {
        let near =
            answer.nearest.as_deref().map_or_else(String::new, |path| format!("; nearest: {}", quoted(path)));
        paragraph(out, &format!("{}: {}{near}", quoted(&step.path), safe(&step.fact)), INDENT, layout)?;
    }
    Ok(())
}
