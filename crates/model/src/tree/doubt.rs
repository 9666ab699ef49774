//! What is assumed or unknown about single inodes of a tree.

use std::sync::Arc;

use crate::fact::Unknown;

/// How sure a fact is.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub enum Certainty {
    /// Told by a source.
    #[default]
    Known,
    /// Taken for granted; the text is listed with every answer that rests on it.
    Assumed(Arc<str>),
    /// Not known: an answer that needs it depends on it.
    Unknown(Unknown),
}

impl Certainty {
    /// What is not known, where it is not.
    #[must_use]
    pub const fn unknown(&self) -> Option<&Unknown> {
        match self {
            Self::Unknown(unknown) => Some(unknown),
            Self::Known | Self::Assumed(_) => None,
        }
    }
}

/// What is not certain about one inode.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Doubt {
    /// Its owner and group.
    pub owner: Certainty,
    /// The names of owner and group, where those are all that is known of them.
    pub names: Option<Arc<OwnerNames>>,
    /// Its mode and ACL.
    pub mode: Certainty,
    /// For a directory: the entries that are not listed.
    pub contents: Certainty,
    /// Whether it is a directory or something else: a mount point for something of which nobody knows what it is.
    pub kind: Certainty,
}

/// Who owns an inode, by names whose numbers nobody told. In one source different names are different ids.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct OwnerNames {
    /// The user's name; `None` where its number is the inode's.
    pub user: Option<Arc<[u8]>>,
    /// The group's name; `None` where its number is the inode's.
    pub group: Option<Arc<[u8]>>,
}

impl Doubt {
    /// As sure of its owner as of its mode.
    #[must_use]
    pub fn new(attributes: Certainty, contents: Certainty) -> Self {
        Self { owner: attributes.clone(), mode: attributes, contents, ..Self::default() }
    }

    /// What is not known of owner and mode; of the owner where both are not.
    #[must_use]
    pub const fn unknown_attribute(&self) -> Option<&Unknown> {
        match self.owner.unknown() {
            Some(unknown) => Some(unknown),
            None => self.mode.unknown(),
        }
    }

    /// What is taken for granted of owner and mode.
    #[must_use]
    pub const fn assumed_attribute(&self) -> Option<&Arc<str>> {
        match (&self.owner, &self.mode) {
            (Certainty::Assumed(text), _) | (_, Certainty::Assumed(text)) => Some(text),
            (_, _) => None,
        }
    }

    /// Whether owner and mode were given.
    #[must_use]
    pub fn knows_attributes(&self) -> bool {
        self.owner == Certainty::Known && self.mode == Certainty::Known
    }
}

/// The owner or the mode of an inode, as far as it is given: whoever decides by it has to say what comes of it where it
/// is not.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Attribute<'a, T> {
    /// Given by a source.
    Known(T),
    /// Taken for granted; the text is listed with every answer that rests on it.
    Assumed(T, &'a Arc<str>),
    /// Not given.
    Unknown(&'a Unknown),
}

impl<'a, T> Attribute<'a, T> {
    /// `value`, as sure as `certainty` says.
    pub(super) const fn new(value: T, certainty: &'a Certainty) -> Self
    where
        T: Copy,
    {
        match certainty {
            Certainty::Known => Self::Known(value),
            Certainty::Assumed(text) => Self::Assumed(value, text),
            Certainty::Unknown(unknown) => Self::Unknown(unknown),
        }
    }

    /// The value that is given or taken for granted.
    #[must_use]
    pub fn value(self) -> Option<T> {
        match self {
            Self::Known(value) | Self::Assumed(value, _) => Some(value),
            Self::Unknown(_) => None,
        }
    }

    /// What it rests on, where it is taken for granted.
    #[must_use]
    pub fn assumption(self) -> Option<&'a Arc<str>> {
        match self {
            Self::Assumed(_, text) => Some(text),
            Self::Known(_) | Self::Unknown(_) => None,
        }
    }

    /// Whether the value is `Some` and passes `test`, that is, certainly or by assumption so.
    #[must_use]
    pub fn is_some_and(self, test: impl FnOnce(T) -> bool) -> bool {
        self.value().is_some_and(test)
    }
}
