//! What a description asks for and no rule here follows.

use crate::fact::{Provenance, Unknown};
use crate::outcome::Errno;

/// One such thing. Answers that it may change depend on it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Unmodelled {
    /// What it is called, such as `the seccomp profile web.json`.
    pub name: String,
    /// What it may change.
    pub touches: Touches,
    /// Where it was asked for.
    pub from: Provenance,
    /// What the missing fact is, and what the user can add.
    pub unknown: Unknown,
}

/// What an unmodelled thing may change.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Touches {
    /// The ids of the process, and with them all that is decided by ids.
    Ids,
    /// It may refuse what all else permits, with this errno.
    Permitted(Errno),
    /// Nothing, as long as it does what it is there for; that is named with the answer.
    Trusted,
}

impl Unmodelled {
    /// A namespace, or whatever else gives the process ids that are not known; `settle` is what the user can add.
    #[must_use]
    pub fn ids(name: &str, settle: &str, from: Provenance) -> Self {
        let unknown = Unknown::new(&format!("which ids {name} gives"), settle);
        Self { name: name.to_owned(), touches: Touches::Ids, from, unknown }
    }

    /// A policy or filter that may refuse with `errno` what all else permits.
    #[must_use]
    pub fn policy(name: &str, errno: Errno, from: Provenance) -> Self {
        let unknown = Unknown::new(&format!("what {name} permits"), "no scene can supply it");
        Self { name: name.to_owned(), touches: Touches::Permitted(errno), from, unknown }
    }

    /// Something of which `assumed` is taken for granted.
    #[must_use]
    pub fn trusted(assumed: &str, from: Provenance) -> Self {
        let unknown = Unknown::new(assumed, "no scene can supply it");
        Self { name: assumed.to_owned(), touches: Touches::Trusted, from, unknown }
    }
}
