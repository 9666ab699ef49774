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

/// What is not certain about one inode.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Doubt {
    /// Its owner, group and mode.
    pub attributes: Certainty,
    /// For a directory: the entries that are not listed.
    pub contents: Certainty,
}
