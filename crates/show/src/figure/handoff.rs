//! Creators down, consumers across; in each field what can be done with a file, and with one in a new subdirectory.

use mivask_core::act::quoted;
use mivask_core::handoff::{Creation, Handoff, PerUse};
use mivask_core::settle::Outcome;

use super::Figure;
use super::pen::{Pen, cut, folded};
use crate::style::USUAL_MARK;
use crate::words::use_letter;

const LABEL: f64 = 190.0;
const FIELD: f64 = 104.0;
const ROW: f64 = 52.0;
const SQUARE: f64 = 19.0;
/// Consumers that are beside each other; more get a block of their own.
const ACROSS: usize = 6;

pub(super) fn draw(all: &[Handoff]) -> Figure {
    let mut pen = Pen::new();
    let mut y = 24.0;
    let widest = all.iter().map(|handoff| handoff.members.len()).max().unwrap_or(1).clamp(4, ACROSS);
    let width = LABEL + FIELD * count(widest) + 20.0;
    if all.is_empty() {
        pen.text((14.0, y), "fact", "No directory is known to be shared by two containers.");
        y += 20.0;
    }
    for handoff in all {
        y = one(&mut pen, y, handoff);
    }
    if !all.is_empty() {
        let is_usual = all.iter().any(|one| !one.rests_on.is_empty());
        let usual = if is_usual { "; ~ usually so" } else { "" };
        for line in [
            "upper row: a file made there; lower row: a file in a subdirectory made there".to_owned(),
            format!("r reads, c changes, d deletes, p replaces (renames its own over it); ? depends{usual}"),
        ] {
            pen.text((14.0, y), "from", &line);
            y += 17.0;
        }
    }
    pen.done((width.max(620.0), y + 4.0), "Which containers can use files another one creates")
}

fn one(pen: &mut Pen, mut y: f64, handoff: &Handoff) -> f64 {
    let place = match handoff.directory.as_slice() {
        b"/" => handoff.source.to_string(),
        below => format!("{}, {}", handoff.source, quoted(below)),
    };
    for line in folded(&place, 70) {
        pen.text((14.0, y), "act", &line);
        y += 18.0;
    }
    for block in handoff.members.chunks(ACROSS) {
        y = grid(pen, y + 4.0, handoff, block);
    }
    y + 26.0
}

fn grid(pen: &mut Pen, mut y: f64, handoff: &Handoff, consumers: &[(String, Vec<u8>)]) -> f64 {
    pen.text((14.0, y + 10.0), "head", "creator: what it leaves");
    for (at, (name, _)) in consumers.iter().enumerate() {
        let x = LABEL + FIELD * count(at) + 4.0;
        pen.text((x, y + 10.0), "path", &cut(name, 13));
    }
    y += 20.0;
    for creation in &handoff.creations {
        pen.line((14.0, y), (LABEL + FIELD * count(consumers.len()), y), "rule");
        pen.text((14.0, y + 20.0), "path", &cut(&creation.creator, 22));
        pen.text((14.0, y + 38.0), "fact", &cut(&leaves(creation), 24));
        for (at, (name, _)) in consumers.iter().enumerate() {
            let x = LABEL + FIELD * count(at) + 4.0;
            match creation.consumers.iter().find(|one| one.consumer == *name) {
                Some(one) => {
                    squares(pen, (x, y + 5.0), one.file.as_ref());
                    squares(pen, (x, y + 5.0 + SQUARE + 2.0), one.nested.as_ref());
                }
                None => pen.text((x, y + 30.0), "from", "itself"),
            }
        }
        y += ROW;
    }
    y
}

fn leaves(creation: &Creation) -> String {
    let usual = creation.usually.as_ref().and_then(|usual| usual.file.as_ref());
    match (&creation.creates.outcome, &creation.file, usual) {
        (Outcome::Allowed, Some(left), _) => crate::words::imprint(left),
        (_, _, Some(left)) => format!("{USUAL_MARK}{}", crate::words::imprint(left)),
        (outcome, _, None) => crate::words::outcome(outcome),
    }
}

fn squares(pen: &mut Pen, (x, y): (f64, f64), uses: Option<&PerUse>) {
    for (at, (wanted, ended)) in uses.iter().flat_map(|uses| uses.iter()).enumerate() {
        let x = x + (SQUARE + 2.0) * count(at);
        let usual = ended.usually.is_some();
        let (class, letter) = match ended.certain_or_usual().outcome {
            Outcome::Allowed => ("bit good", use_letter(wanted)),
            Outcome::Denied(_) | Outcome::NeverRuns(_) => ("bit bad", "–"),
            Outcome::Depends => ("bit open", "?"),
        };
        let (class, mark) = if usual { ("bit open", USUAL_MARK) } else { (class, "") };
        pen.bar((x, y), (SQUARE, SQUARE), class);
        pen.centred((x + SQUARE / 2.0, y + 13.8), &format!("letter {class}"), &format!("{mark}{letter}"));
    }
}

fn count(count: usize) -> f64 {
    f64::from(u16::try_from(count).unwrap_or(u16::MAX))
}
