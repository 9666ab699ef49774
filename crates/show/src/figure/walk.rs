//! The checks of one act from top to bottom, each with the bits it looked at.

use mivask_core::act::quoted;
use mivask_core::mode::{Access, FileKind, Mode, symbolic};
use mivask_core::question::{Answer, PathFacts, facts_at};
use mivask_core::settle::Outcome;
use mivask_core::stage::Stage;
use mivask_core::trace::{Check, Step, StepResult};

use super::Figure;
use super::pen::{Pen, folded};
use crate::words::outcome as outcome_words;

/// One act with every check, and what is where each looked.
#[derive(Clone, Debug)]
pub struct Walk {
    /// The act.
    pub sentence: String,
    /// How it ends, such as `denied EACCES`.
    pub ends: String,
    /// The errno in words, where there is one.
    pub meaning: Option<String>,
    /// Whether it is allowed.
    pub outcome: Outcome,
    /// The checks, in the kernel's order.
    pub steps: Vec<(Step, Option<PathFacts>)>,
}

impl Walk {
    /// The walk behind an answer.
    #[must_use]
    pub fn new(stage: &Stage, answer: &Answer) -> Self {
        let actor = stage.actor(&answer.actor).ok();
        let facts = |step: &Step| actor.and_then(|actor| facts_at(stage, actor, &step.path));
        Self {
            sentence: answer.act.to_string(),
            ends: outcome_words(&answer.outcome),
            meaning: answer.outcome.errno().map(|errno| errno.meaning().to_owned()),
            outcome: answer.outcome.clone(),
            steps: answer.steps.iter().map(|step| (step.clone(), facts(step))).collect(),
        }
    }
}

const WIDTH: f64 = 720.0;
const LEFT: f64 = 46.0;
const LINE: f64 = 17.0;
/// Columns of a line of small text.
const COLUMNS: usize = 96;
/// Where the bits begin, and how wide one is.
const BITS: f64 = 520.0;
const BIT: f64 = 17.0;

pub(super) fn draw(walk: &Walk) -> Figure {
    let mut pen = Pen::new();
    let mut y = 24.0;
    for line in folded(&walk.sentence, 80) {
        pen.text((14.0, y), "act", &line);
        y += 20.0;
    }
    y += 4.0;
    let mut last: Option<&[u8]> = None;
    let mut dots = Vec::new();
    for (step, facts) in &walk.steps {
        dots.push(y);
        let same = last == Some(step.path.as_slice());
        last = Some(&step.path);
        y = one(&mut pen, y, step, facts.as_ref(), same);
    }
    for pair in dots.windows(2) {
        pen.line((24.0, pair[0] + 9.0), (24.0, pair[1] - 9.0), "way");
    }
    for ((step, _), at) in walk.steps.iter().zip(&dots) {
        dot(&mut pen, *at, step.result);
    }
    let class = match walk.outcome {
        Outcome::Allowed => "end good",
        Outcome::Denied(_) | Outcome::NeverRuns(_) => "end bad",
        Outcome::Depends => "end open",
    };
    let words = match &walk.meaning {
        Some(meaning) => format!("{}: {meaning}", walk.ends),
        None => walk.ends.clone(),
    };
    pen.bar((14.0, y + 2.0), (WIDTH - 28.0, 26.0), class);
    pen.text((24.0, y + 19.5), &format!("{class} words"), &words);
    pen.done((WIDTH, y + 40.0), &format!("{}: {words}", walk.sentence))
}

/// One check; gives where the next one begins.
fn one(pen: &mut Pen, y: f64, step: &Step, facts: Option<&PathFacts>, same: bool) -> f64 {
    let class = class_of(step.check);
    let known = facts.and_then(|facts| Some((facts.kind, facts.mode?)));
    let bits = if class.is_some() { known } else { None };
    let room = if bits.is_some() { 58 } else { 82 };
    let title = if same { format!("… {}", step.check.code()) } else { quoted(&step.path) };
    let titles = folded(&title, room);
    for (at, line) in titles.iter().enumerate() {
        pen.text((LEFT, y + 4.0 + LINE * index(at)), "path", line);
    }
    if let (Some((kind, mode)), Some(class)) = (bits, class) {
        draw_bits(pen, (BITS, y - 8.0), (kind, mode), class, step);
    }
    let mut below = y + 4.0 + LINE * index(titles.len());
    let fact = match facts {
        Some(facts) if bits.is_some() => shortened(&step.fact, facts),
        _ => step.fact.clone(),
    };
    for line in folded(&fact, COLUMNS) {
        pen.text((LEFT, below), "fact", &line);
        below += LINE - 2.0;
    }
    for line in folded(&step.from.to_string(), COLUMNS) {
        pen.text((LEFT, below), "from", &line);
        below += LINE - 2.0;
    }
    below + 8.0
}

/// The bits are beside it, so the words need not say them.
fn shortened(fact: &str, facts: &PathFacts) -> String {
    let Some(mode) = facts.mode else { return fact.to_owned() };
    let drawn = format!("{} ", symbolic(facts.kind, mode));
    fact.strip_prefix(&drawn).unwrap_or(fact).to_owned()
}

fn index(at: usize) -> f64 {
    f64::from(u16::try_from(at).unwrap_or(u16::MAX))
}

fn dot(pen: &mut Pen, y: f64, result: StepResult) {
    let (class, mark) = match result {
        StepResult::Passed => ("good", "✓"),
        StepResult::Failed(_) => ("bad", "✗"),
    };
    pen.bar((15.0, y - 9.0), (18.0, 18.0), &format!("dot {class}"));
    pen.centred((24.0, y + 4.5), &format!("mark {class}"), mark);
}

/// Which third of the bits a check looked at: 0 the owner's, 1 the group's, 2 everyone else's; 3 for none of them.
const fn class_of(check: Check) -> Option<usize> {
    if let Check::OwnerBits = check {
        Some(0)
    } else if let Check::GroupBits | Check::AclGroup | Check::AclUser = check {
        Some(1)
    } else if let Check::OtherBits = check {
        Some(2)
    } else if let Check::Capability | Check::Sticky = check {
        Some(3)
    } else {
        None
    }
}

fn draw_bits(pen: &mut Pen, (x, y): (f64, f64), (kind, mode): (FileKind, Mode), class: usize, step: &Step) {
    let letters: Vec<char> = symbolic(kind, mode).chars().skip(1).collect();
    let needed = step.bits.map(|bits| bits.needed).unwrap_or_default();
    let asks = [needed.grants(Access::READ), needed.grants(Access::WRITE), needed.grants(Access::EXECUTE)];
    for (at, letter) in letters.iter().enumerate() {
        let third = at / 3;
        let place = (x + index(at) * (BIT + 1.0) + index(third) * 7.0, y);
        let asked = third == class && asks[at % 3];
        let state = match (asked, *letter) {
            (true, '-' | 'S' | 'T') => "bit bad",
            (true, _) => "bit good",
            (false, _) if third == class => "bit own",
            (false, _) => "bit",
        };
        pen.bar(place, (BIT, BIT), state);
        pen.centred((place.0 + BIT / 2.0, y + 12.8), &format!("letter {state}"), &letter.to_string());
    }
}
