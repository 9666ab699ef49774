//! Expectations for people.

use std::io::{self, Write};

use mivask_core::expect::{Against, Standing, Upheld};
use mivask_core::fact::Provenance;

use super::survey::grouped;
use super::{Layout, folded, paragraph};
use crate::safe::safe;
use crate::style::{BAD, FAINT, GOOD, OPEN, STRONG, paint};
use crate::upheld::{Checked, Run, at, rests_on};

/// Which expectations are shown.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Shown {
    /// Those that do not simply hold.
    Wrong,
    /// All.
    All,
}

/// What speaks against an expectation is named so often, unless all is asked for.
const NAMED: usize = 3;
/// Columns taken by the standing.
const INDENT: usize = 9;

/// Each input with what does not hold, and the sum.
///
/// # Errors
/// Whatever `out` refuses.
pub fn upheld(out: &mut dyn Write, run: &Run, shown: Shown, layout: Layout<'_>) -> io::Result<()> {
    for checked in &run.inputs {
        let counts = checked.counts();
        let fine =
            counts.holds + counts.meets_nothing == counts.all && !checked.held.iter().any(is_qualified);
        let quiet = checked.unusable.is_none() && fine && shown == Shown::Wrong;
        if !quiet {
            input(out, checked, shown, layout)?;
        }
    }
    let counts = run.counts();
    let expectations = plural(counts.all, "expectation");
    let inputs = plural(run.inputs.len(), "input");
    let style = if run.is_held() && run.unusable() == 0 { GOOD } else { BAD };
    let mut sum = format!("{expectations} in {inputs}: {counts}");
    if run.unusable() > 0 {
        sum.push_str(&format!("; {} cannot be used", plural(run.unusable(), "input")));
    }
    writeln!(out, "{}", paint(style, &sum))
}

/// Whether it holds, but only as far as nothing is there or something is taken for granted.
fn is_qualified(one: &Upheld) -> bool {
    one.standing == Standing::Holds && (one.is_of_nothing() || !one.assumptions.is_empty())
}

fn plural(count: usize, noun: &str) -> String {
    if count == 1 { format!("1 {noun}") } else { format!("{count} {noun}s") }
}

fn input(out: &mut dyn Write, checked: &Checked, shown: Shown, layout: Layout<'_>) -> io::Result<()> {
    writeln!(out, "{}", paint(STRONG, &safe(&checked.input)))?;
    if let Some(why) = &checked.unusable {
        line(out, (BAD, "unusable"), &safe(why), layout)?;
    }
    for one in &checked.held {
        // What meets nothing has been warned of.
        if matches!(one.standing, Standing::Depends | Standing::Broken)
            || shown == Shown::All
            || is_qualified(one)
        {
            expectation(out, one, shown, layout)?;
        }
    }
    writeln!(out)
}

fn line(
    out: &mut dyn Write,
    (style, word): (anstyle::Style, &str),
    text: &str,
    layout: Layout<'_>,
) -> io::Result<()> {
    let padding = " ".repeat(INDENT.saturating_sub(word.len()));
    writeln!(out, "  {}{padding} {}", paint(style, word), folded(text, INDENT + 3, layout.width))
}

fn expectation(out: &mut dyn Write, one: &Upheld, shown: Shown, layout: Layout<'_>) -> io::Result<()> {
    let (style, word) = match one.standing {
        Standing::Holds => (GOOD, "holds"),
        Standing::MeetsNothing => (OPEN, "nothing"),
        Standing::Depends => (OPEN, "depends"),
        Standing::Broken => (BAD, "BROKEN"),
    };
    line(out, (style, word), &paint(STRONG, &safe(&one.expected.text)), layout)?;
    let indent = INDENT + 3;
    let from = safe(&at(&one.expected.from));
    match one.standing {
        Standing::Holds => return noted(out, one, layout),
        Standing::MeetsNothing => {
            paragraph(
                out,
                &format!("no actor or path here is what this speaks of ({from})"),
                indent,
                layout,
            )?;
        }
        Standing::Depends | Standing::Broken => {
            paragraph(out, &paint(FAINT, &format!("expected at {from}")), indent, layout)?;
        }
    }
    let most = if shown == Shown::All { one.against.len() } else { NAMED.min(one.against.len()) };
    one.against.iter().take(most).try_for_each(|against| reason(out, against, layout))?;
    let more = one.more + one.against.len() - most;
    if more > 0 {
        let more = grouped(more as u64);
        let checked = grouped(one.checked as u64);
        paragraph(out, &format!("and {more} more of {checked} that were looked at"), indent, layout)?;
    }
    noted(out, one, layout)
}

/// What it rests on.
fn noted(out: &mut dyn Write, one: &Upheld, layout: Layout<'_>) -> io::Result<()> {
    let mut notes = rests_on(one).into_iter();
    notes.try_for_each(|note| paragraph(out, &paint(FAINT, &note), INDENT + 3, layout))
}

fn reason(out: &mut dyn Write, against: &Against, layout: Layout<'_>) -> io::Result<()> {
    let indent = INDENT + 3;
    let style = if against.open { OPEN } else { BAD };
    if against.open && matches!(against.from, Provenance::Assumption(_)) {
        return paragraph(out, &paint(style, &safe(&against.fact)), indent, layout);
    }
    let found = format!("{}: {}", safe(&against.asked), paint(style, &safe(&against.found)));
    paragraph(out, &found, indent, layout)?;
    paragraph(out, &safe(&against.fact), indent + 2, layout)?;
    if !against.usual.is_empty() {
        let facts: Vec<String> = against.usual.iter().map(|usual| safe(&usual.says)).collect();
        let text = format!("usually as expected, since as usual {}", facts.join("; "));
        paragraph(out, &text, indent + 2, layout)?;
    }
    if !against.open {
        paragraph(out, &paint(FAINT, &safe(&against.from.to_string())), indent + 2, layout)?;
    }
    if !against.settle.is_empty() {
        let text = format!("to settle it: {}", safe(&against.settle.join(", or ")));
        paragraph(out, &text, indent + 2, layout)?;
    }
    Ok(())
}
