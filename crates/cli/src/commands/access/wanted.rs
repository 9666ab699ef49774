//! Which entries of a tree are wanted.

use std::os::unix::ffi::OsStrExt;
use std::str::FromStr;

use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use mivask_core::outcome::Errno;
use mivask_core::question::{Cell, Column, Swept};

use crate::end::{CommandError, Failure};

/// An outcome, of one column or of any.
#[derive(Clone, Copy, Debug)]
pub(super) struct Condition {
    column: Option<Column>,
    outcome: Wanted,
}

#[derive(Clone, Copy, Debug)]
enum Wanted {
    Allowed,
    Denied,
    With(Errno),
    Depends,
}

impl FromStr for Condition {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let (column, outcome) = match text.split_once('=') {
            None => (None, text),
            Some((word, outcome)) => {
                let column = Column::ALL.into_iter().find(|column| column.word() == word);
                let words = Column::ALL.map(Column::word).join(", ");
                (Some(column.ok_or_else(|| format!("`{word}` is none of {words}"))?), outcome)
            }
        };
        let outcome = match outcome {
            "allowed" => Wanted::Allowed,
            "denied" => Wanted::Denied,
            "depends" => Wanted::Depends,
            errno => Wanted::With(Errno::by_name(errno).ok_or_else(|| {
                format!(
                    "`{errno}` is not an outcome: write allowed, denied, depends, or an errno such as EACCES"
                )
            })?),
        };
        Ok(Self { column, outcome })
    }
}

impl Condition {
    fn holds(self, swept: &Swept<'_>) -> bool {
        let fits = |column: &Column| match (self.outcome, swept.cell(*column)) {
            (Wanted::Allowed, Cell::Allowed) | (Wanted::Denied, Cell::Denied(_)) => true,
            (Wanted::Depends, Cell::Open) => true,
            (Wanted::With(wanted), Cell::Denied(errno)) => wanted == errno,
            _ => false,
        };
        match &self.column {
            Some(column) => fits(column),
            None => Column::ALL.iter().any(fits),
        }
    }
}

/// All that an entry must meet.
pub(super) struct Filter<'a> {
    globs: Option<GlobSet>,
    conditions: &'a [Condition],
}

/// A pattern of paths does not read.
#[derive(Debug, thiserror::Error)]
#[error("`{pattern}` is not a pattern of paths: {}", error.kind())]
struct NotAPattern {
    /// As it was written.
    pattern: String,
    /// What is wrong with it.
    error: globset::Error,
}

impl CommandError for NotAPattern {}

impl<'a> Filter<'a> {
    pub(super) fn new(globs: &[String], conditions: &'a [Condition]) -> Result<Self, Failure> {
        if globs.is_empty() {
            return Ok(Self { globs: None, conditions });
        }
        let mut set = GlobSetBuilder::new();
        for glob in globs {
            let failure = |error| NotAPattern { pattern: glob.clone(), error };
            set.add(GlobBuilder::new(glob).literal_separator(true).build().map_err(failure)?);
        }
        let globs = set.build().map_err(|error| NotAPattern { pattern: globs.join(" "), error })?;
        Ok(Self { globs: Some(globs), conditions })
    }

    /// Whether every entry is wanted.
    pub(super) const fn is_open(&self) -> bool {
        self.globs.is_none() && self.conditions.is_empty()
    }

    /// Whether the path of an entry is asked for, beside what can be done to it.
    pub(super) const fn goes_by_paths(&self) -> bool {
        self.globs.is_some()
    }

    pub(super) fn wants(&self, swept: &Swept<'_>) -> bool {
        let path = std::ffi::OsStr::from_bytes(swept.path);
        self.conditions.iter().all(|condition| condition.holds(swept))
            && self.globs.as_ref().is_none_or(|globs| globs.is_match(path))
    }
}
