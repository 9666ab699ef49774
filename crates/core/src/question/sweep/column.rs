//! What can be done to one inode, in seven columns.

use mivask_model::act::Verb;
use mivask_model::mode::FileKind;
use mivask_model::outcome::Errno;
use mivask_rules::settle::Outcome;
use mivask_rules::trace::Check;

/// One cell of the matrix, small enough to keep millions of.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Default)]
pub enum Cell {
    /// The question makes no sense for that kind of file.
    #[default]
    Void,
    /// It succeeds.
    Allowed,
    /// It fails.
    Denied(Errno),
    /// It depends on a missing fact; [`access`](crate::question::access()) says on which.
    Open,
}

/// One question about an inode.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Column {
    /// Read its content.
    Read,
    /// Write to it.
    Write,
    /// Create something in the directory.
    Create,
    /// Remove it.
    Delete,
    /// List the directory.
    List,
    /// Enter the directory.
    Enter,
    /// Run the file.
    Run,
}

impl Column {
    /// Every column, in the order they are shown.
    pub const ALL: [Self; 7] =
        [Self::Read, Self::Write, Self::Create, Self::Delete, Self::List, Self::Enter, Self::Run];

    /// What is done to ask about an inode of this kind; `None` of what is created, which has a name of its own in the directory.
    pub(super) const fn verb(self, kind: FileKind) -> Option<Verb> {
        Some(match self {
            Self::Read => Verb::Reads,
            Self::Write => Verb::Writes,
            Self::Create => return None,
            Self::Delete if matches!(kind, FileKind::Directory) => Verb::RemovesDirectory,
            Self::Delete => Verb::Deletes,
            Self::List => Verb::Lists,
            Self::Enter => Verb::Enters,
            Self::Run => Verb::Runs,
        })
    }

    /// Whether the question makes sense for what is of this kind.
    #[must_use]
    pub const fn makes_sense(self, kind: FileKind) -> bool {
        let directory = matches!(kind, FileKind::Directory);
        match self {
            Self::Delete => true,
            Self::Create | Self::List | Self::Enter => directory,
            Self::Read | Self::Write => !directory,
            Self::Run => matches!(kind, FileKind::File),
        }
    }

    /// The word in answers and JSON.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Read => "read",
            Self::Write => "write",
            Self::Create => "create",
            Self::Delete => "delete",
            Self::List => "list",
            Self::Enter => "enter",
            Self::Run => "run",
        }
    }
}

/// How a question ends, and by which check.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Default)]
pub struct Ending {
    /// The outcome.
    pub cell: Cell,
    /// The check that decided: the one that failed, or whose bits gave it. [`Check::Link`] where that is decided
    /// at the place a link or a script points to.
    pub check: Option<Check>,
    /// Whether something was taken for granted.
    pub assumed: bool,
    /// Of one that is open: [`Cell::Allowed`] or [`Cell::Denied`], where every missing fact that matters is usually one way.
    pub usual: Option<Cell>,
}

impl Ending {
    /// The outcome, or the usual one of what is open; `None` where there is neither.
    #[must_use]
    pub fn certain_or_usual(self) -> Option<Cell> {
        match self.cell {
            Cell::Open => self.usual,
            Cell::Void | Cell::Allowed | Cell::Denied(_) => Some(self.cell),
        }
    }

    /// The usual outcome of what is open, as single questions have it.
    #[must_use]
    pub fn usually(self) -> Option<Outcome> {
        match self.usual? {
            Cell::Allowed => Some(Outcome::Allowed),
            Cell::Denied(errno) => Some(Outcome::Denied(Some(errno))),
            Cell::Void | Cell::Open => None,
        }
    }

    pub(super) fn of(result: Result<(), Errno>, met_unknown: bool, check: Option<Check>) -> Self {
        let (cell, check) = match result {
            _ if met_unknown => (Cell::Open, Some(Check::Unknown)),
            Ok(()) => (Cell::Allowed, check),
            Err(errno) => (Cell::Denied(errno), check),
        };
        Self { cell, check, assumed: false, usual: None }
    }
}

/// One value for each column of the matrix.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Default)]
pub struct PerColumn<T>([T; Column::ALL.len()]);

impl<T> PerColumn<T> {
    /// What `of` gives for each column.
    #[must_use]
    pub fn from_fn(of: impl FnMut(Column) -> T) -> Self {
        Self(Column::ALL.map(of))
    }

    /// That of one column.
    #[must_use]
    pub const fn of(&self, column: Column) -> &T {
        &self.0[column as usize]
    }

    /// Another value for one column.
    pub fn set(&mut self, column: Column, value: T) {
        self.0[column as usize] = value;
    }

    /// Each column with its value, in the order they are shown.
    pub fn iter(&self) -> impl Iterator<Item = (Column, &T)> {
        Column::ALL.into_iter().zip(&self.0)
    }

    /// The same columns with what `to` makes of each value.
    #[must_use]
    pub fn map<U>(&self, mut to: impl FnMut(&T) -> U) -> PerColumn<U> {
        PerColumn::from_fn(|column| to(self.of(column)))
    }
}

/// The endings of one inode.
pub type Endings = PerColumn<Ending>;

impl Endings {
    /// All alike, as far as the columns make sense for `kind`.
    pub(super) fn all(kind: FileKind, ending: Ending) -> Self {
        let mut endings = Self::default();
        for column in Column::ALL {
            if column.makes_sense(kind) {
                endings.set(column, ending);
            }
        }
        endings
    }
}
