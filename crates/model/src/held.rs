//! The id that a process has, whose number may not be given.

use std::fmt;

/// The user or group id of a process.
///
/// It is not an id type, and no number stands for a missing one: `4294967294` is an id like any other to the kernel
/// (`uid_valid` excludes only `(uid_t)-1`).
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Held<Id> {
    /// This one.
    Id(Id),
    /// That of an ordinary account whose number is not given. It owns nothing in the scene, which an assumption of the
    /// identity says, and may or may not be that of another actor.
    Unnumbered,
}

impl<Id: Copy + PartialEq> Held<Id> {
    /// The id, or `None` where its number is not given.
    #[must_use]
    pub const fn id(self) -> Option<Id> {
        match self {
            Self::Id(id) => Some(id),
            Self::Unnumbered => None,
        }
    }

    /// Whether it is `id`; one without a number is no id of the scene.
    #[must_use]
    pub fn is(self, id: Id) -> bool {
        self == Self::Id(id)
    }

    /// The same in another type.
    pub fn map<Other>(self, wrap: impl FnOnce(Id) -> Other) -> Held<Other> {
        match self {
            Self::Id(id) => Held::Id(wrap(id)),
            Self::Unnumbered => Held::Unnumbered,
        }
    }

    /// The same on another side; `None` where `side` has no id for it. One without a number is mapped by assumption.
    pub fn through<Other>(self, side: impl FnOnce(Id) -> Option<Other>) -> Option<Held<Other>> {
        match self {
            Self::Id(id) => side(id).map(Held::Id),
            Self::Unnumbered => Some(Held::Unnumbered),
        }
    }
}

impl<Id> From<Option<Id>> for Held<Id> {
    fn from(id: Option<Id>) -> Self {
        id.map_or(Self::Unnumbered, Self::Id)
    }
}

impl<Id: fmt::Display> fmt::Display for Held<Id> {
    /// The number, or `?`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Id(id) => id.fmt(f),
            Self::Unnumbered => f.write_str("?"),
        }
    }
}
