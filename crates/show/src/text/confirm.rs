//! Predictions beside the kernel.

use std::io::{self, Write};

use mivask_core::question::{Comparison, Held};

use super::{Layout, folded, paragraph};
use crate::RandomSummary;
use crate::safe::safe;
use crate::style::{BAD, FAINT, GOOD, OPEN, STRONG, paint};
use crate::words::{observed, predicted};

/// Columns taken by the result.
const INDENT: usize = 13;

/// Each act with prediction and kernel, and a summary.
///
/// # Errors
/// Whatever `out` refuses.
pub fn confirmed(out: &mut dyn Write, all: &[Held], ground: &str, layout: Layout<'_>) -> io::Result<()> {
    for held in all {
        one(out, held, layout)?;
    }
    let count = |wanted: fn(&Comparison) -> bool| all.iter().filter(|held| wanted(&held.result)).count();
    let same = count(|result| matches!(result, Comparison::Same(_)));
    let different = count(|result| matches!(result, Comparison::Different(_)));
    let rest = all.len() - same - different;
    let verdict = match (different, same) {
        (0, 0) => paint(OPEN, "nothing could be held against the kernel"),
        (0, _) => paint(GOOD, "no difference"),
        (1, _) => paint(BAD, "1 act differs"),
        (many, _) => paint(BAD, &format!("{many} acts differ")),
    };
    writeln!(
        out,
        "\n{verdict}: {same} the same, {different} different, {rest} not checked (built on {ground})"
    )
}

fn one(out: &mut dyn Write, held: &Held, layout: Layout<'_>) -> io::Result<()> {
    let layout = layout.of(&held.answer.act.actor);
    let act = paint(STRONG, &safe(&held.answer.act.to_string()));
    let label = |style, text: &str| format!("{}{}", paint(style, text), " ".repeat(INDENT - text.len()));
    match &held.result {
        Comparison::Same(seen) => {
            let seen = observed(&held.answer.act.verb, seen);
            let line = format!("{act}  {}", paint(FAINT, &layout.named(&safe(&seen))));
            writeln!(out, "{}{}", label(GOOD, "same"), folded(&line, INDENT, layout.width))
        }
        Comparison::Different(seen) => {
            writeln!(out, "{}{act}", label(BAD, "DIFFERENT"))?;
            paragraph(out, &format!("predicted   {}", safe(&predicted(held))), INDENT, layout)?;
            paragraph(
                out,
                &format!("the kernel  {}", safe(&observed(&held.answer.act.verb, seen))),
                INDENT,
                layout,
            )
        }
        Comparison::NotChecked(reason) => {
            writeln!(out, "{}{act}", label(OPEN, "not checked"))?;
            paragraph(out, &safe(reason), INDENT, layout)
        }
    }
}

/// What came of random acts; `differing` holds the one that differs, if one does.
///
/// # Errors
/// Whatever `out` refuses.
pub fn random_acts(
    out: &mut dyn Write,
    differing: &[Held],
    summary: &RandomSummary,
    layout: Layout<'_>,
) -> io::Result<()> {
    for held in differing {
        one(out, held, layout)?;
    }
    if let Some(scene) = &summary.scene {
        paragraph(out, &format!("the smallest scene that shows it: {}", safe(scene)), INDENT, layout)?;
        writeln!(out)?;
    }
    let verdict =
        if differing.is_empty() { paint(GOOD, "no difference") } else { paint(BAD, "1 act differs") };
    writeln!(
        out,
        "{verdict}: {} random acts held against the kernel (seed {})",
        summary.checked, summary.seed
    )?;
    let list = |pairs: &[(String, usize)]| {
        let texts: Vec<String> = pairs.iter().map(|(name, count)| format!("{name} {count}")).collect();
        texts.join(", ")
    };
    paragraph(out, &format!("built on  {}", list(&summary.filesystems)), 2, layout)?;
    paragraph(out, &format!("ended     {}", list(&summary.outcomes)), 2, layout)?;
    for (reason, count) in &summary.not_checked {
        paragraph(out, &format!("not checked {count}: {}", safe(reason)), 2, layout)?;
    }
    Ok(())
}
