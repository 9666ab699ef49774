//! What is to be at paths, whoever does what: kind, owner and mode, or nothing.

use std::fmt;

use mivask_model::act::{Owner, quoted};
use mivask_model::fact::Provenance;
use mivask_model::mode::{FileKind, Mode, symbolic};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

use crate::question::{PathFacts, facts_of};

/// What is to be there, as the actor sees it.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
#[non_exhaustive]
pub struct State {
    /// Nothing at all.
    pub missing: bool,
    /// What it is.
    pub kind: Option<FileKind>,
    /// Who owns it (inside ids); a part left out is not looked at.
    pub owner: Option<Owner>,
    /// Exactly these bits.
    pub exactly: Option<Mode>,
    /// At least these bits.
    pub at_least: Option<Mode>,
    /// No others than these bits.
    pub at_most: Option<Mode>,
}

/// How a path is, held against that.
pub(super) enum Likeness {
    /// It is so.
    Same,
    /// It is not.
    Other {
        /// What it is not, such as `not 0640`.
        found: String,
        /// What is there, in words.
        fact: String,
        /// Where that was read.
        from: Provenance,
    },
    /// This is not known.
    Unknown(String),
}

impl State {
    /// Whether only its mode is looked at, which is the same whoever looks.
    pub(super) const fn is_of_inode(&self) -> bool {
        self.owner.is_none() && !self.missing
    }

    /// How what is at `path` is. A line about kinds speaks of a link itself, any other of what it leads to.
    pub(super) fn against(&self, stage: &Stage, actor: &Actor, path: &[u8]) -> Likeness {
        let follow = if self.kind == Some(FileKind::Link) || self.missing {
            Follow::AllButLast
        } else {
            Follow::Links
        };
        let shown = quoted(path);
        let place = match look(&stage.storage, &actor.mounts, path, follow) {
            Ok(Sight::There(place)) => place,
            Ok(Sight::Unlisted) => return Likeness::Unknown(format!("what is at {shown}")),
            Ok(Sight::Missing) | Err(_) if self.missing => return Likeness::Same,
            Ok(Sight::Missing) | Err(_) => {
                let from = Provenance::rule("nothing of that name is listed");
                return Likeness::Other {
                    found: "missing".to_owned(),
                    fact: format!("{shown}: no such entry"),
                    from,
                };
            }
        };
        let unknown = || Likeness::Unknown(format!("owner and mode of {shown}"));
        let Some(facts) = facts_of(stage, actor, place) else { return unknown() };
        let from = place.inode.map_or_else(
            || Provenance::rule("what is mounted there"),
            |inode| stage.source(place.source).tree.place(inode),
        );
        let id = |id: Option<u32>| id.map_or_else(|| "?".to_owned(), |id| id.to_string());
        let (uid, gid) = (facts.uid.map(|id| id.raw()), facts.gid.map(|id| id.raw()));
        let mode = facts.mode.map_or_else(
            || facts.kind.noun().to_owned(),
            |mode| format!("{} {mode}", symbolic(facts.kind, mode)),
        );
        let fact = format!("{shown}: {mode} {}:{}", id(uid), id(gid));
        let other = |found: String| Likeness::Other { found, fact: fact.clone(), from: from.clone() };
        if self.missing {
            return other("there".to_owned());
        }
        if let Some(wanted) = self.kind.filter(|wanted| *wanted != facts.kind) {
            return other(format!("not a {}", wanted.noun()));
        }
        let (wrong, open) = self.differences(&facts);
        match (wrong.is_empty(), open) {
            (false, _) => other(wrong.join(" and ")),
            (true, true) => unknown(),
            (true, false) => Likeness::Same,
        }
    }

    /// What is not so, and whether something is not known.
    fn differences(&self, facts: &PathFacts) -> (Vec<String>, bool) {
        let mut wrong = Vec::new();
        let mut open = false;
        let (uid, gid) = (facts.uid.map(|id| id.raw()), facts.gid.map(|id| id.raw()));
        if let Some(owner) = self.owner {
            let differs =
                |wanted: Option<u32>, is: Option<u32>| wanted.map(|wanted| is.map(|is| is != wanted));
            let parts = [differs(owner.uid, uid), differs(owner.gid, gid)];
            open |= parts.contains(&Some(None));
            if parts.contains(&Some(Some(true))) {
                wrong.push(format!("not owned by {owner}"));
            }
        }
        let asks = [self.exactly, self.at_least, self.at_most].iter().any(Option::is_some);
        match facts.mode {
            None => open |= asks,
            Some(mode) => {
                wrong.extend(
                    self.exactly.filter(|wanted| *wanted != mode).map(|wanted| format!("not {wanted}")),
                );
                let least = self.at_least.filter(|wanted| !mode.has(*wanted));
                wrong.extend(least.map(|wanted| format!("less than {wanted}")));
                let most = self.at_most.filter(|wanted| mode.without(*wanted) != Mode::default());
                wrong.extend(most.map(|wanted| format!("wider than {wanted}")));
            }
        }
        (wrong, open)
    }
}

impl fmt::Display for State {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.missing {
            return f.write_str("is missing");
        }
        let mut parts = Vec::new();
        parts.extend(self.kind.map(|kind| format!("is a {}", kind.noun())));
        parts.extend(self.exactly.map(|mode| format!("is {mode}")));
        parts.extend(self.at_least.map(|mode| format!("at-least {mode}")));
        parts.extend(self.at_most.map(|mode| format!("at-most {mode}")));
        parts.extend(self.owner.map(|owner| format!("owned-by {owner}")));
        f.write_str(&parts.join(" "))
    }
}
