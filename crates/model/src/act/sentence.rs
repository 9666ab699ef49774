//! Verbs as they are written.

use std::fmt;

use super::quoted;
use super::verb::{Node, Owner, Shape, Verb};

impl Verb {
    /// How what an act comes upon is called: what it leaves, or only shows.
    #[must_use]
    pub const fn imprint_word(&self) -> &'static str {
        if self.only_looks() { "shows" } else { "leaves" }
    }

    /// The sentence about `path`, without the actor.
    pub(super) fn sentence(&self, path: &[u8], f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let word = self.word();
        let path = quoted(path);
        if let Some(value) = self.value_before() {
            return write!(f, "{word} {value} on {path}");
        }
        write!(f, "{word} {path}")?;
        let value = if let Self::Points(value) | Self::Tags(value) | Self::ReadsTag(value) = self {
            Some(value.as_slice())
        } else {
            None
        };
        let behind = value.or_else(|| self.second_path());
        if let Some(value) = behind
            && let Shape::Behind(preposition) = self.shape()
        {
            write!(f, " {preposition} {}", quoted(value))?;
        }
        if let Self::MakesNode(node, _) = self
            && *node != Node::NULL
        {
            write!(f, " as {node}")?;
        }
        let usual = Self::by_word(word).and_then(|verb| verb.mode());
        match self.mode() {
            Some(mode) if Some(mode) != usual => write!(f, " mode {mode}"),
            Some(_) | None => Ok(()),
        }
    }

    fn value_before(&self) -> Option<String> {
        if let Self::SetsMode(change) = self {
            return Some(change.to_string());
        }
        if let Self::SetsAcl(acl) | Self::SetsDefaultAcl(acl) = self {
            let text = acl.to_string();
            return Some(if text.is_empty() { "\"\"".to_owned() } else { text });
        }
        if let Self::SetsOwner(owner) | Self::SetsLinkOwner(owner) = self {
            return Some(owner.to_string());
        }
        if let Self::SetsGroup(gid) | Self::SetsLinkGroup(gid) = self {
            return Some(gid.to_string());
        }
        None
    }
}

impl fmt::Display for Node {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.kind.word())?;
        if self.kind.is_device() { write!(f, " {}:{}", self.device.major, self.device.minor) } else { Ok(()) }
    }
}

impl fmt::Display for Owner {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.uid, self.gid) {
            (Some(uid), Some(gid)) => write!(f, "{uid}:{gid}"),
            (Some(uid), None) => write!(f, "{uid}"),
            (None, Some(gid)) => write!(f, ":{gid}"),
            (None, None) => f.write_str(":"),
        }
    }
}
