//! Expectations: what is to hold in a scene, said once and checked ever after.
//!
//! A line is an act with its outcome, or it speaks of many actors and paths at once:
//!
//! ```text
//! gauge creates /data/2026.csv -> leaves 7101:7300 0644
//! gauge, press read /data/**
//! * except prime never writes /etc/**
//! only gauge, prime write /data/**
//! /data/keys/* at-most 0600 owned-by 0
//! /data is a directory 7101:7300 2770
//! ```
//!
//! Who and where is found out in `matching` and `meet`, where else the same files are in `seen`, what is wrong in `judge`.

mod endings;
mod judge;
mod matching;
mod meet;
mod parse;
mod seen;
mod state;
mod uphold;

use std::fmt;

pub(crate) use endings::endings;
pub use parse::{parse_expectation_line, parse_expectation_lines};
pub use state::State;
pub use uphold::uphold;

use crate::names::AccountNames;
use crate::question::Answer;
use mivask_model::act::{Expectation, Owner, Verb};
use mivask_model::fact::Provenance;
use mivask_model::mode::Mode;
use mivask_model::usual::Usual;
use mivask_rules::settle::Outcome;

/// Whom a line speaks of: names, or patterns of names, of containers or of `workload/container`.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct Who {
    /// Those that are named.
    pub names: Vec<String>,
    /// Those that are left out of them.
    pub except: Vec<String>,
}

/// Which paths inside a line speaks of.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct Paths {
    /// A path, or a pattern such as `/data/**`, which means `/data` too.
    pub pattern: Vec<u8>,
    /// Those that are left out of it.
    pub except: Vec<Vec<u8>>,
}

/// What is to hold.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Claim {
    /// Each of these acts ends like this.
    Each {
        /// Who acts.
        who: Who,
        /// What they do.
        verb: Verb,
        /// To what.
        paths: Paths,
        /// How it ends.
        expectation: Expectation,
    },
    /// None of these acts is allowed.
    Never {
        /// Who acts.
        who: Who,
        /// What they do.
        verb: Verb,
        /// To what.
        paths: Paths,
    },
    /// No one else may do this, to what these actors see at these paths, wherever it is mounted.
    Only {
        /// Who may; that they can is not said.
        who: Who,
        /// What they do.
        verb: Verb,
        /// To what.
        paths: Paths,
    },
    /// No one sees these paths wider than this.
    AtMost {
        /// Whose view counts; everyone's where no one is named.
        who: Option<Who>,
        /// Which paths.
        paths: Paths,
        /// No other bits may be set.
        mode: Mode,
        /// Who must own them (inside ids).
        owner: Option<Owner>,
    },
    /// Nothing is changed there by these, or by nobody else: not written, made, removed, renamed, nor its owner, mode or ACL.
    Unchanged {
        /// Whether these alone may.
        only: bool,
        /// Who never does, or alone may.
        who: Who,
        /// Where.
        paths: Paths,
    },
    /// This is at each of these paths.
    Is {
        /// Whose view counts; everyone's where no one is named.
        who: Option<Who>,
        /// Which paths.
        paths: Paths,
        /// What is there.
        state: State,
    },
}

impl Claim {
    /// Whom it speaks of; `None` for everyone.
    #[must_use]
    pub const fn who(&self) -> Option<&Who> {
        match self {
            Self::Each { who, .. }
            | Self::Never { who, .. }
            | Self::Only { who, .. }
            | Self::Unchanged { who, .. } => Some(who),
            Self::AtMost { who, .. } | Self::Is { who, .. } => who.as_ref(),
        }
    }

    /// Which paths it speaks of.
    #[must_use]
    pub const fn paths(&self) -> &Paths {
        match self {
            Self::Each { paths, .. }
            | Self::Never { paths, .. }
            | Self::Only { paths, .. }
            | Self::AtMost { paths, .. }
            | Self::Is { paths, .. }
            | Self::Unchanged { paths, .. } => paths,
        }
    }
}

/// A claim, as it was written and where.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Expected {
    /// What is to hold.
    pub claim: Claim,
    /// The line, without its comment.
    pub text: String,
    /// Where it is.
    pub from: Provenance,
    /// Whether it has names where numbers are compared: its claim has none yet.
    pub unnamed: bool,
}

impl Expected {
    /// The same with the numbers that `names` gives, where it has names.
    ///
    /// # Errors
    /// A name that no account file of that place knows, in words.
    pub fn named(&self, names: &AccountNames) -> Result<Self, String> {
        if !self.unnamed {
            return Ok(self.clone());
        }
        match parse_expectation_line(&names.numbered(&self.text)) {
            Ok(claim) => Ok(Self { claim, unnamed: false, ..self.clone() }),
            Err(error) => Err(format!("{error}, and the account files that are given know no such name")),
        }
    }
}

impl fmt::Display for Expected {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

/// Whether an expectation holds.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Standing {
    /// It does.
    Holds,
    /// No actor and no path is what it speaks of, so that it says nothing.
    MeetsNothing,
    /// It depends on a missing fact.
    Depends,
    /// It does not.
    Broken,
}

impl Standing {
    /// Every standing, from good to bad.
    pub const ALL: [Self; 4] = [Self::Holds, Self::MeetsNothing, Self::Depends, Self::Broken];

    /// The word in answers; never changes once released.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Holds => "holds",
            Self::MeetsNothing => "meets-nothing",
            Self::Depends => "depends",
            Self::Broken => "broken",
        }
    }
}

/// One thing that speaks against an expectation.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Against {
    /// The actor's name.
    pub actor: String,
    /// The path inside.
    pub path: Vec<u8>,
    /// What was asked: an act, or what a path was looked at for.
    pub asked: String,
    /// What came of it, such as `allowed` or `denied EACCES`.
    pub found: String,
    /// The fact that decides, in words, with the path it is about.
    pub fact: String,
    /// Where that fact was read.
    pub from: Provenance,
    /// Whether it only may be so: a fact is missing.
    pub open: bool,
    /// What the missing facts usually are, where with those it is as expected.
    pub usual: Vec<Usual>,
    /// What the user can add to settle that.
    pub settle: Vec<String>,
}

/// How one expectation fares in one scene.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Upheld {
    /// What was expected.
    pub expected: Expected,
    /// Whether it holds.
    pub standing: Standing,
    /// How many pairs of an actor and a path were looked at.
    pub checked: usize,
    /// What speaks against it, the certain before the possible; no more than [`MOST_AGAINST`].
    pub against: Vec<Against>,
    /// How many more there are.
    pub more: usize,
    /// Whether everything that depends on missing facts usually is as expected.
    pub usually: bool,
    /// What was taken for granted by the acts that are named.
    pub assumptions: Vec<std::sync::Arc<str>>,
}

/// More things that speak against one expectation are only counted.
pub const MOST_AGAINST: usize = 10;

impl Upheld {
    /// Whether it holds because no path is there that it speaks of.
    #[must_use]
    pub fn is_of_nothing(&self) -> bool {
        self.standing == Standing::Holds && self.checked == 0
    }

    /// The same with names in place of the ids of what speaks against it.
    #[must_use]
    pub fn with_names(mut self, names: &AccountNames) -> Self {
        for one in &mut self.against {
            one.fact = names.in_text(&one.actor, &one.fact);
            one.found = names.in_text(&one.actor, &one.found);
        }
        self
    }

    /// The same where nothing may be taken for granted: what holds by an assumption depends on that.
    #[must_use]
    pub fn without_assumptions(mut self) -> Self {
        if self.standing != Standing::Holds || self.assumptions.is_empty() {
            return self;
        }
        let depends = |text: &std::sync::Arc<str>| Against {
            actor: "*".to_owned(),
            path: self.expected.claim.paths().pattern.clone(),
            asked: self.expected.text.clone(),
            found: "depends".to_owned(),
            fact: format!("it is only assumed that {text}"),
            from: Provenance::Assumption(text.clone()),
            open: true,
            usual: Vec::new(),
            settle: Vec::new(),
        };
        self.against = self.assumptions.iter().take(MOST_AGAINST).map(depends).collect();
        self.more = self.assumptions.len() - self.against.len();
        self.usually = false;
        self.standing = Standing::Depends;
        self
    }

    /// Whether it counts as held: what is meant by `accept_depends` is that nothing certain speaks against it.
    #[must_use]
    pub const fn is_held(&self, accept_depends: AcceptDepends) -> bool {
        match (self.standing, accept_depends) {
            (Standing::Holds | Standing::MeetsNothing, _) | (Standing::Depends, AcceptDepends::Yes) => true,
            (Standing::Broken, _) | (Standing::Depends, AcceptDepends::No) => false,
            (Standing::Depends, AcceptDepends::Usual) => self.usually,
        }
    }
}

/// Whether an expectation that depends on a missing fact counts as held.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum AcceptDepends {
    /// It does.
    Yes,
    /// It does where it holds if the fact is as usual.
    Usual,
    /// It does not.
    No,
}

/// How an answer ended, in few words.
fn ended(answer: &Answer) -> String {
    if answer.outcome == Outcome::Depends {
        let mut ways: Vec<String> = Vec::new();
        for one in &answer.depends_on {
            let way = match one.end.errno() {
                Some(errno) => format!("denied {errno}"),
                None => one.end.word().replace('-', " "),
            };
            if !ways.contains(&way) {
                ways.push(way);
            }
        }
        return format!("depends ({})", ways.join(" or "));
    }
    match (answer.outcome.errno(), answer.effect.imprint.as_ref()) {
        (Some(errno), _) => format!("denied {errno}"),
        (None, Some(left)) if matches!(answer.act.expectation, Some(Expectation::Leaves { .. })) => {
            let id = |id: Option<u32>| id.map_or_else(|| "?".to_owned(), |id| id.to_string());
            let mode = left.mode.map_or_else(|| "?".to_owned(), |mode| mode.to_string());
            let uid = left.uid.map(|uid| uid.raw());
            let gid = left.gid.map(|gid| gid.raw());
            format!("{} {}:{} {mode}", answer.act.verb.imprint_word(), id(uid), id(gid))
        }
        (None, _) => answer.outcome.word().replace('-', " "),
    }
}
