//! How the expectations of several inputs fare, whatever the format they are given in.

use std::fmt;

use mivask_core::expect::{AcceptDepends, Against, Standing, Upheld};
use mivask_core::fact::Provenance;

use crate::safe::safe;

/// One input.
#[derive(Clone, Debug)]
pub struct Checked {
    /// The input as the user named it.
    pub input: String,
    /// How each of its expectations fares.
    pub held: Vec<Upheld>,
    /// Why it cannot be used, if it cannot.
    pub unusable: Option<String>,
}

/// Every input of a run.
#[derive(Clone, Debug)]
pub struct Run {
    /// In the order they were named.
    pub inputs: Vec<Checked>,
    /// Whether what depends counts as held.
    pub accept: AcceptDepends,
}

/// How many expectations stand how.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Counts {
    /// Expectations.
    pub all: usize,
    /// Those that hold.
    pub holds: usize,
    /// Those that say nothing here.
    pub meets_nothing: usize,
    /// Those that depend on a missing fact.
    pub depends: usize,
    /// Those that do not hold.
    pub broken: usize,
}

impl Counts {
    fn of<'a>(held: impl Iterator<Item = &'a Upheld>) -> Self {
        held.fold(Self::default(), |mut counts, one| {
            counts.all += 1;
            *match one.standing {
                Standing::Holds => &mut counts.holds,
                Standing::MeetsNothing => &mut counts.meets_nothing,
                Standing::Depends => &mut counts.depends,
                Standing::Broken => &mut counts.broken,
            } += 1;
            counts
        })
    }
}

impl fmt::Display for Counts {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let words = [
            (self.holds, "holds", "hold"),
            (self.broken, "broken", "broken"),
            (self.depends, "depends", "depend"),
            (self.meets_nothing, "meets nothing", "meet nothing"),
        ];
        let given = words.iter().enumerate().filter(|(at, (count, ..))| *at == 0 || *count > 0);
        for (at, (count, one, several)) in given {
            let comma = if at == 0 { "" } else { ", " };
            write!(f, "{comma}{count} {}", if *count == 1 { one } else { several })?;
        }
        Ok(())
    }
}

impl Run {
    /// The expectations of all inputs.
    #[must_use]
    pub fn counts(&self) -> Counts {
        Counts::of(self.inputs.iter().flat_map(|input| &input.held))
    }

    /// How many inputs cannot be used.
    #[must_use]
    pub fn unusable(&self) -> usize {
        self.inputs.iter().filter(|input| input.unusable.is_some()).count()
    }

    /// Whether everything holds that is expected of inputs that can be used.
    #[must_use]
    pub fn is_held(&self) -> bool {
        self.inputs.iter().flat_map(|input| &input.held).all(|one| one.is_held(self.accept))
    }
}

impl Checked {
    pub(crate) fn counts(&self) -> Counts {
        Counts::of(self.held.iter())
    }
}

/// A place in a file, for formats that point at one.
pub(crate) struct Place<'a> {
    pub file: &'a str,
    /// From 1.
    pub line: usize,
    /// In characters, from 1.
    pub column: usize,
}

pub(crate) fn place(from: &Provenance) -> Option<Place<'_>> {
    match from {
        Provenance::Document { file, line, column, .. } => Some(Place { file, line: *line, column: *column }),
        Provenance::Line { file, line } => Some(Place { file, line: *line, column: 1 }),
        Provenance::Source(_)
        | Provenance::Rule(_)
        | Provenance::Assumption(_)
        | Provenance::Unknown(_)
        | Provenance::Act(_) => None,
    }
}

/// Where an expectation is, in words.
pub(crate) fn at(from: &Provenance) -> String {
    place(from).map_or_else(|| from.to_string(), |at| format!("{}:{}:{}", at.file, at.line, at.column))
}

/// What speaks against an expectation, in one line that is safe to print.
pub(crate) fn sentence(against: &Against) -> String {
    let from = if against.open { String::new() } else { format!(" ({})", against.from) };
    safe(&format!("{}: {}, because {}{from}", against.asked, against.found, against.fact))
}

/// All that speaks against it, and what it rests on, a line each.
pub(crate) fn sentences(held: &Upheld) -> Vec<String> {
    let mut lines: Vec<String> = held.against.iter().map(sentence).collect();
    if held.more > 0 {
        lines.push(format!("and {} more", held.more));
    }
    lines.extend(rests_on(held));
    lines
}

/// What it rests on: that nothing is there, or what was taken for granted.
pub(crate) fn rests_on(held: &Upheld) -> Vec<String> {
    let nothing = held.is_of_nothing().then(|| "nothing is there".to_owned());
    // Where an assumption is what speaks against it, it has been named.
    let named = |text: &str| held.against.iter().any(|one| one.from == Provenance::Assumption(text.into()));
    let assumed = held.assumptions.iter().filter(|text| !named(text));
    nothing.into_iter().chain(assumed.map(|text| safe(&format!("assumed: {text}")))).collect()
}
