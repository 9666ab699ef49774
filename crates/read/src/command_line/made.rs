//! Nodes of a Compose service, made of what another description says, each where that stands.

use std::ops::Range;

use crate::yaml::{Node, Value};

/// A text, never taken for a number.
pub(super) fn text(text: &str, span: &Range<usize>) -> Node {
    Node::new(Value::Scalar { text: text.to_owned(), plain: false }, span.clone())
}

/// A truth value or a number.
pub(super) fn plain(text: &str, span: &Range<usize>) -> Node {
    Node::new(Value::Scalar { text: text.to_owned(), plain: true }, span.clone())
}

/// A mapping that grows.
#[derive(Clone, Debug, Default)]
pub(super) struct Made(Vec<(Node, Node)>);

impl Made {
    /// Sets `key`, whatever it was before.
    pub(super) fn set(&mut self, key: &str, value: Node) {
        let span = value.span.clone();
        self.0.retain(|(known, _)| known.text() != Some(key));
        self.0.push((text(key, &span), value));
    }

    /// Adds `key`, which is not there yet.
    pub(super) fn push(&mut self, key: &str, value: Node) {
        self.0.push((text(key, &value.span), value));
    }

    /// Adds to the list at `key`.
    pub(super) fn add(&mut self, key: &str, value: Node) {
        let found = self.0.iter_mut().find(|(known, _)| known.text() == Some(key));
        match found.map(|(_, list)| &mut list.value) {
            Some(Value::Sequence(items)) => items.push(value),
            Some(Value::Scalar { .. } | Value::Mapping(_)) | None => {
                let span = value.span.clone();
                self.set(key, Node::new(Value::Sequence(vec![value]), span));
            }
        }
    }

    pub(super) fn has(&self, key: &str) -> bool {
        self.0.iter().any(|(known, _)| known.text() == Some(key))
    }

    pub(super) fn node(self, span: Range<usize>) -> Node {
        Node::new(Value::Mapping(self.0), span)
    }
}
