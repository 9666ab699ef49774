//! What the source of a tree does not tell of.

use std::sync::Arc;

/// What a source does not tell of, so that none of it is assumed: the words of each assumption.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct Unrecorded {
    /// ACLs.
    pub acls: Option<Arc<str>>,
    /// File capabilities.
    pub capabilities: Option<Arc<str>>,
    /// The immutable and append-only attributes.
    pub attributes: Option<Arc<str>>,
}

impl Unrecorded {
    /// Of a source that has none of the three, for the reason `why`.
    #[must_use]
    pub fn on_all(why: &str) -> Self {
        Self { acls: Some(format!("no file has an ACL: {why}").into()), ..Self::but_acls(why) }
    }

    /// Of a source that mentions ACLs, and not of the others.
    #[must_use]
    pub fn but_acls(why: &str) -> Self {
        Self {
            attributes: Some(format!("no file is immutable or append-only: {why}").into()),
            ..Self::on_capabilities(why)
        }
    }

    fn on_capabilities(why: &str) -> Self {
        Self {
            capabilities: Some(format!("no program has file capabilities: {why}").into()),
            ..Self::default()
        }
    }

    /// Of a source whose ACLs and file capabilities were not asked for.
    #[must_use]
    pub fn on_extended(why: &str) -> Self {
        Self { attributes: None, ..Self::on_all(why) }
    }

    /// What either is silent on.
    #[must_use]
    pub fn or(self, other: &Self) -> Self {
        let one = |own: Option<Arc<str>>, other: &Option<Arc<str>>| own.or_else(|| other.clone());
        Self {
            acls: one(self.acls, &other.acls),
            capabilities: one(self.capabilities, &other.capabilities),
            attributes: one(self.attributes, &other.attributes),
        }
    }
}
