//! The endings of an act that depends on missing facts.

use std::collections::BTreeSet;
use std::io::{self, Write};
use std::sync::Arc;

use anstyle::Style;
use mivask_core::outcome::{Effect, Imprint};
use mivask_core::settle::{Dependence, End};

use super::{Layout, folded, imprint};
use crate::safe::safe;
use crate::style::{BAD, FAINT, GOOD, paint};

/// Endings that are listed with all their conditions; of more, only what decides each is said.
const MOST: usize = 3;

/// What settles a fact that no description holds.
const NO_SCENE: &str = "no scene can supply it";

/// The possibilities of an answer, and what would settle them; `word` goes before what an allowed act leaves.
pub(super) fn dependences(
    out: &mut dyn Write,
    all: &[Dependence],
    word: &str,
    indent: usize,
    layout: Layout<'_>,
) -> io::Result<()> {
    let lines = match chain(all, word) {
        Some(lines) if all.len() > MOST => lines,
        Some(_) | None => all.iter().map(|one| (ending(one, word), format!("when {}", one.when()))).collect(),
    };
    let named = |((style, label), when): Line| ((style, layout.named(&label).into_owned()), when);
    let lines: Vec<Line> = lines.into_iter().map(named).collect();
    let pad = " ".repeat(indent);
    let width = lines.iter().map(|((_, label), _)| label.len()).max().unwrap_or(0) + 2;
    for ((style, label), when) in lines {
        let when = folded(&layout.named(&safe(&when)), indent + width, layout.width);
        writeln!(out, "{pad}{}{when}", paint(style, &format!("{label:<width$}")))?;
    }
    let settles: BTreeSet<&Arc<str>> = all.iter().flat_map(|one| &one.settle).collect();
    let several = settles.len() > 1;
    for settle in settles {
        let settle = if several && **settle == *NO_SCENE { "no scene can supply the rest" } else { settle };
        let text = format!("to settle it: {}", safe(settle));
        writeln!(out, "{pad}{}", paint(FAINT, &folded(&text, indent, layout.width)))?;
    }
    Ok(())
}

type Line = ((Style, String), String);

/// Where each ending branches off one long way, only its own condition needs saying; what is at the end of the way
/// happens otherwise. `None` where they branch in another fashion.
fn chain(all: &[Dependence], word: &str) -> Option<Vec<Line>> {
    let longest = all.iter().max_by_key(|one| (one.conditions.len(), one.end.effect().is_some()))?;
    let on_the_way = |one: &Dependence| {
        let before = one.conditions.len().checked_sub(1);
        before.is_some_and(|before| longest.conditions.starts_with(&one.conditions[..before]))
    };
    if !all.iter().all(on_the_way) {
        return None;
    }
    let mut sides: Vec<&Dependence> = all.iter().filter(|one| *one != longest).collect();
    sides.sort_by_key(|one| one.conditions.len());
    let mut lines: Vec<Line> = Vec::new();
    for one in sides {
        let label = ending(one, word);
        let own = one.conditions.last()?;
        match lines.iter_mut().find(|(known, _)| *known == label) {
            Some((_, whens)) => whens.push_str(&format!(", or {own}")),
            None => lines.push((label, format!("when {own}"))),
        }
    }
    // What ends like the rest needs no line of its own.
    let rest = ending(longest, word);
    lines.retain(|(label, _)| *label != rest);
    lines.push((rest, "otherwise".to_owned()));
    Some(lines)
}

/// `denied EACCES`, `allowed`, or what an allowed act leaves or shows, which `word` says.
fn ending(one: &Dependence, word: &str) -> (Style, String) {
    match &one.end {
        End::NeverRuns => (BAD, "never runs".to_owned()),
        End::Act(Err(errno)) => (BAD, format!("denied {errno}")),
        End::Act(Ok(Effect { imprint: Some(left), .. })) if *left != Imprint::default() => {
            (GOOD, format!("{word} {}", imprint(left)))
        }
        End::Act(Ok(_)) => (GOOD, "allowed".to_owned()),
    }
}
