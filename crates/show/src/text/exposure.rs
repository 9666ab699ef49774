//! What is open wider than needed.

use std::io::{self, Write};

use mivask_core::act::quoted;
use mivask_core::exposure::{Finding, Severity};

use super::{Layout, folded, paragraph};
use crate::safe::safe;
use crate::style::{BAD, FAINT, OPEN, STRONG, paint};

/// Paths that are named; more are counted.
const NAMED: usize = 4;
/// Columns taken by the severity.
const INDENT: usize = 8;

/// Each finding with its worst consequence, the worst first; then what the scene says is meant.
///
/// # Errors
/// Whatever `out` refuses.
pub fn findings(out: &mut dyn Write, all: &[Finding], layout: Layout<'_>) -> io::Result<()> {
    let (accepted, open): (Vec<_>, Vec<_>) = all.iter().partition(|finding| finding.accepted.is_some());
    if open.is_empty() {
        writeln!(
            out,
            "Nothing is found that is wider than needed{}.",
            if accepted.is_empty() { "" } else { ", except what is accepted" }
        )?;
    }
    for finding in &open {
        one(out, finding, layout)?;
    }
    if !accepted.is_empty() {
        writeln!(out, "\n{}", paint(STRONG, "Accepted"))?;
    }
    for finding in &accepted {
        let Some(accepted) = &finding.accepted else { continue };
        let text = format!("{} {}: {}", finding.kind.word(), paths(finding), safe(&accepted.reason));
        paragraph(out, &text, 2, layout)?;
        paragraph(out, &paint(FAINT, &safe(&accepted.from.to_string())), 4, layout)?;
    }
    Ok(())
}

fn one(out: &mut dyn Write, finding: &Finding, layout: Layout<'_>) -> io::Result<()> {
    let layout = layout.of(finding.actors.first().map_or("", String::as_str));
    let word = finding.severity.word();
    let style = match finding.severity {
        Severity::High => BAD,
        Severity::Medium => OPEN,
        Severity::Low => FAINT,
    };
    let padding = " ".repeat(INDENT.saturating_sub(word.len()));
    let what = format!("{} {}", paint(STRONG, finding.kind.word()), paths(finding));
    writeln!(out, "{}{padding}{}", paint(style, word), folded(&what, INDENT, layout.width))?;
    let usually = if finding.usual { paint(OPEN, "usually: ") } else { String::new() };
    paragraph(out, &format!("{usually}{}", safe(&finding.consequence)), INDENT, layout)?;
    let actors = safe(&finding.actors.join(", "));
    let on = if finding.paths.is_empty() {
        String::new()
    } else {
        format!(" on {}, by {actors}", safe(&finding.on))
    };
    let fact = format!("{}{on}  ({})", safe(&finding.fact), safe(&finding.from.to_string()));
    let fact = folded(&layout.named(&fact), INDENT, layout.width);
    writeln!(out, "{}{}", " ".repeat(INDENT), paint(FAINT, &fact))
}

fn paths(finding: &Finding) -> String {
    if finding.paths.is_empty() {
        return safe(&finding.on);
    }
    let named: Vec<String> = finding.paths.iter().take(NAMED).map(|path| quoted(path)).collect();
    match finding.paths.len().saturating_sub(NAMED) {
        0 => named.join(" "),
        more => format!("{} and {more} more", named.join(" ")),
    }
}
