//! The endings of an act that depends on missing facts: the usual one first where there is one, then what else may be.

use std::collections::BTreeSet;
use std::io::{self, Write};
use std::sync::Arc;

use anstyle::Style;
use mivask_core::outcome::{Effect, Imprint};
use mivask_core::settle::{Dependence, End};
use mivask_core::usually::Usually;

use super::{Layout, folded, imprint, paragraph};
use crate::safe::safe;
use crate::style::{BAD, FAINT, GOOD, paint};

/// More endings are counted.
const MOST: usize = 4;

/// What settles a fact that no description holds.
const NO_SCENE: &str = "no scene can supply it";

/// The possibilities of an answer, and what would settle them.
pub(super) struct Ways<'a> {
    /// Every ending.
    pub all: &'a [Dependence],
    /// The usual one.
    pub usually: Option<&'a Usually>,
    /// What goes before what an allowed act leaves.
    pub word: &'a str,
    /// Whether there are more that nobody tried.
    pub cut_short: bool,
}

impl Ways<'_> {
    /// Writes them `indent` columns in.
    pub(super) fn write(&self, out: &mut dyn Write, indent: usize, layout: Layout<'_>) -> io::Result<()> {
        let lines = match self.usually {
            Some(usually) => {
                self.usual(out, usually, indent, layout)?;
                self.others(usually)
            }
            None => self.tree(),
        };
        let shown = if layout.all_ways { lines.len() } else { shown(&lines) };
        let (first, rest) = lines.split_at(shown);
        let pad = |depth: usize| " ".repeat(indent + 2 * depth);
        let width = first.iter().map(|line| line.width(layout)).max().unwrap_or(0) + 2;
        for line in first {
            let text = layout.named(&safe(&line.when)).into_owned();
            let Some((style, label)) = &line.ending else {
                let text = folded(&format!("{text}:"), indent + 2 * line.depth, layout.width);
                writeln!(out, "{}{text}", pad(line.depth))?;
                continue;
            };
            let label = layout.named(label);
            let column = width.saturating_sub(2 * line.depth);
            let text = folded(&text, indent + width, layout.width);
            writeln!(out, "{}{}{text}", pad(line.depth), paint(*style, &format!("{label:<column$}")))?;
        }
        let count = rest.iter().filter(|line| line.ending.is_some()).count();
        if count > 0 {
            let ways = if count == 1 { "possibility" } else { "possibilities" };
            paragraph(
                out,
                &paint(FAINT, &format!("and {count} more {ways} (--all lists them)")),
                indent,
                layout,
            )?;
        }
        if self.cut_short {
            let text = "and more: too many facts are unknown to try every combination";
            paragraph(out, text, indent, layout)?;
        }
        if layout.settled_below { Ok(()) } else { self.settle(out, indent, layout) }
    }

    fn usual(
        &self,
        out: &mut dyn Write,
        usually: &Usually,
        indent: usize,
        layout: Layout<'_>,
    ) -> io::Result<()> {
        if let Some(left) = &usually.effect.imprint
            && *left != Imprint::default()
        {
            paragraph(out, &format!("{} {}", self.word, imprint(left)), indent, layout)?;
        }
        let facts: Vec<String> = usually.rests_on.iter().map(|usual| safe(&usual.says)).collect();
        paragraph(out, &format!("as usual: {}", facts.join("; ")), indent, layout)
    }

    /// What else may be: for each thing that would have to be unusual, what comes of it.
    fn others(&self, usually: &Usually) -> Vec<Line> {
        let usual = usual_label(usually, self.word);
        let is_usual = |condition: &&&str| usually.conditions.contains(**condition);
        let mut branches: Vec<(&str, Vec<Way<'_>>)> = Vec::new();
        for (conditions, ending) in self.ways() {
            let along = conditions.iter().take_while(is_usual).count();
            let Some((unusual, rest)) = conditions[along..].split_first() else { continue };
            let way = (rest.to_vec(), ending);
            match branches.iter_mut().find(|(known, _)| known == unusual) {
                Some((_, ways)) => ways.push(way),
                None => branches.push((unusual, vec![way])),
            }
        }
        branches.retain(|(_, ways)| ways.iter().any(|(_, ending)| ending.1 != usual));
        branches.sort_by_key(|(_, ways)| ways.len());
        let mut lines: Vec<Line> = Vec::new();
        for (unusual, ways) in branches {
            let [(conditions, ending)] = ways.as_slice() else {
                lines.push(Line::fork(0, unusual));
                grow(&ways, 1, &mut lines);
                continue;
            };
            let alone = conditions.is_empty();
            match lines.iter_mut().find(|line| alone && line.ending.as_ref() == Some(ending)) {
                Some(line) => line.when.push_str(&format!(", or {unusual}")),
                None => {
                    lines.push(Line::leaf(0, ending.clone(), &[&[unusual], conditions.as_slice()].concat()))
                }
            }
        }
        lines
    }

    fn ways(&self) -> Vec<Way<'_>> {
        let way = |one| (conditions(one), ending(one, self.word));
        self.all.iter().map(way).collect()
    }

    /// Every ending as a tree: what splits them first is on top, and what several have in common is said once.
    fn tree(&self) -> Vec<Line> {
        let mut lines = Vec::new();
        grow(&self.ways(), 0, &mut lines);
        lines
    }

    fn settle(&self, out: &mut dyn Write, indent: usize, layout: Layout<'_>) -> io::Result<()> {
        let pad = " ".repeat(indent);
        let settles: BTreeSet<&Arc<str>> = self.all.iter().flat_map(|one| &one.settle).collect();
        let several = settles.len() > 1;
        for settle in settles {
            let settle =
                if several && **settle == *NO_SCENE { "no scene can supply the rest" } else { settle };
            let text = format!("to settle it: {}", safe(settle));
            writeln!(out, "{pad}{}", paint(FAINT, &folded(&text, indent, layout.width)))?;
        }
        Ok(())
    }
}

/// Conditions, and how it ends.
type Way<'a> = (Vec<&'a str>, (Style, String));

fn conditions(one: &Dependence) -> Vec<&str> {
    one.conditions.iter().map(String::as_str).collect()
}

/// One line: an ending, or what several of the next ones have in common.
struct Line {
    depth: usize,
    ending: Option<(Style, String)>,
    when: String,
}

impl Line {
    fn leaf(depth: usize, ending: (Style, String), conditions: &[&str]) -> Self {
        let when = match conditions {
            [] => "otherwise".to_owned(),
            some => format!("when {}", some.join("; ")),
        };
        Self { depth, ending: Some(ending), when }
    }

    /// What the lines below it have in common.
    fn fork(depth: usize, condition: &str) -> Self {
        Self { depth, ending: None, when: format!("when {condition}") }
    }

    fn width(&self, layout: Layout<'_>) -> usize {
        self.ending.as_ref().map_or(0, |(_, label)| 2 * self.depth + layout.named(label).len())
    }
}

/// How many lines are shown, so that no more than [`MOST`] endings are and no line above endings stands alone.
fn shown(lines: &[Line]) -> usize {
    let mut endings = 0;
    let mut end = 0;
    for (at, line) in lines.iter().enumerate() {
        if line.ending.is_some() {
            endings += 1;
            if endings > MOST {
                return end;
            }
            end = at + 1;
        }
    }
    lines.len()
}

fn grow(all: &[Way<'_>], depth: usize, lines: &mut Vec<Line>) {
    if let Some(mut chain) = chain(all, depth) {
        lines.append(&mut chain);
        return;
    }
    let mut branches: Vec<&[Way<'_>]> = all.chunk_by(|a, b| a.0.first() == b.0.first()).collect();
    branches.sort_by_key(|branch| branch.len());
    for branch in branches {
        match branch {
            [(conditions, ending)] => lines.push(Line::leaf(depth, ending.clone(), conditions)),
            _ => {
                let first = branch[0].0.first().copied().unwrap_or_default();
                lines.push(Line::fork(depth, first));
                let rest: Vec<Way<'_>> = branch
                    .iter()
                    .map(|(conditions, ending)| {
                        (conditions.iter().skip(1).copied().collect(), ending.clone())
                    })
                    .collect();
                grow(&rest, depth + 1, lines);
            }
        }
    }
}

/// Where each ending branches off one long way, only its own condition needs saying; what is at the end of the way
/// happens otherwise. `None` where they branch in another fashion.
fn chain(all: &[Way<'_>], depth: usize) -> Option<Vec<Line>> {
    let good = |way: &Way<'_>| way.1.0 == GOOD;
    let longest = all.iter().max_by_key(|one| (one.0.len(), good(one)))?;
    let on_the_way = |one: &Way<'_>| {
        let before = one.0.len().checked_sub(1);
        before.is_some_and(|before| longest.0.starts_with(&one.0[..before]))
    };
    if !all.iter().all(on_the_way) {
        return None;
    }
    let mut sides: Vec<&Way<'_>> = all.iter().filter(|one| *one != longest).collect();
    sides.sort_by_key(|one| one.0.len());
    let mut lines: Vec<Line> = Vec::new();
    for (conditions, label) in sides {
        let own = conditions.last()?;
        match lines.iter_mut().find(|known| known.ending.as_ref() == Some(label)) {
            Some(line) => line.when.push_str(&format!(", or {own}")),
            None => lines.push(Line::leaf(depth, label.clone(), &[own])),
        }
    }
    // What ends like the rest needs no line of its own.
    lines.retain(|line| line.ending.as_ref() != Some(&longest.1));
    // Of possibilities that one fact splits each is worth saying.
    let own: &[&str] = if longest.0.len() == 1 && lines.len() + 1 == all.len() { &longest.0 } else { &[] };
    lines.push(Line::leaf(depth, longest.1.clone(), own));
    Some(lines)
}

fn usual_label(usually: &Usually, word: &str) -> String {
    match (&usually.effect.imprint, usually.outcome.errno()) {
        (Some(left), _) if *left != Imprint::default() => format!("{word} {}", imprint(left)),
        (_, Some(errno)) => format!("denied {errno}"),
        (_, None) => usually.outcome.word().to_owned(),
    }
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
