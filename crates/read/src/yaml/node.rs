//! A YAML value that remembers where it is.

use std::ops::Range;

use super::scalar::{Scalar, resolve};

/// A value with the bytes it is at.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Node {
    /// The value.
    pub value: Value,
    /// The bytes it is at; for a mapping or list, from its first to its last value.
    pub span: Range<usize>,
    /// What a tag says about merging it with others.
    pub mark: Mark,
}

/// A tag of the Compose specification.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub enum Mark {
    /// None.
    #[default]
    None,
    /// `!reset`: whatever was there before is forgotten.
    Reset,
    /// `!override`: it replaces what was there before instead of being merged with it.
    Override,
}

/// What a node holds.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Value {
    /// A scalar; what it means depends on its quotes and tag.
    Scalar {
        /// The text, escapes resolved.
        text: String,
        /// Whether it stood without quotes, so that it may be a number, a truth value or nothing.
        plain: bool,
    },
    /// A list.
    Sequence(Vec<Node>),
    /// A mapping, in the order of the document.
    Mapping(Vec<(Node, Node)>),
}

impl Node {
    /// A node without a tag.
    #[must_use]
    pub const fn new(value: Value, span: Range<usize>) -> Self {
        Self { value, span, mark: Mark::None }
    }

    /// The value of `key`; `None` where this is not a mapping or has no such key.
    #[must_use]
    pub fn get(&self, key: &str) -> Option<&Self> {
        self.entry(key).map(|(_, value)| value)
    }

    /// Key and value of `key`.
    #[must_use]
    pub fn entry(&self, key: &str) -> Option<(&Self, &Self)> {
        let Value::Mapping(pairs) = &self.value else {
            return None;
        };
        pairs.iter().find(|(known, _)| known.text() == Some(key)).map(|(key, value)| (key, value))
    }

    /// The element `index` of a list.
    #[must_use]
    pub fn item(&self, index: usize) -> Option<&Self> {
        self.items().get(index)
    }

    /// The elements of a list; empty where this is not a list.
    #[must_use]
    pub fn items(&self) -> &[Self] {
        match &self.value {
            Value::Sequence(items) => items,
            Value::Scalar { .. } | Value::Mapping(_) => &[],
        }
    }

    /// Whether it is a list.
    #[must_use]
    pub const fn is_list(&self) -> bool {
        matches!(self.value, Value::Sequence(_))
    }

    /// Whether it is a scalar that means nothing, such as `~`.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        matches!(&self.value, Value::Scalar { text, plain: true } if resolve(text) == Scalar::Null)
    }

    /// The text of a scalar.
    #[must_use]
    pub fn text(&self) -> Option<&str> {
        match &self.value {
            Value::Scalar { text, .. } => Some(text),
            Value::Sequence(_) | Value::Mapping(_) => None,
        }
    }

    /// The value at a path of keys, such as `spec.template.spec`.
    #[must_use]
    pub fn find(&self, path: &str) -> Option<&Self> {
        path.split('.').filter(|key| !key.is_empty()).try_fold(self, |node, key| node.get(key))
    }

    /// What it is, for messages.
    #[must_use]
    pub const fn noun(&self) -> &'static str {
        match &self.value {
            Value::Scalar { .. } => "a single value",
            Value::Sequence(_) => "a list",
            Value::Mapping(_) => "a mapping",
        }
    }
}
