//! Who a container may be, before its runtime starts it.

use std::sync::Arc;

use mivask_model::accounts::Accounts;
use mivask_model::fact::Unknown;
use mivask_model::held::Held;

use super::groups::too_large;

/// One user with its groups.
pub(super) struct Person {
    pub uid: Held<u32>,
    pub gid: Held<u32>,
    /// In the order a runtime asks for them.
    pub groups: Vec<Held<u32>>,
    pub name: Option<String>,
}

impl Person {
    /// Its groups as far as their numbers are given.
    pub(super) fn numbers(&self) -> impl Iterator<Item = u32> {
        self.groups.iter().filter_map(|gid| gid.id())
    }

    /// The first of its ids that runc refuses at start.
    pub(super) fn too_large(&self, accounts: Option<&Accounts>) -> Option<u32> {
        too_large(self.uid.id(), self.gid.id(), self.numbers(), accounts)
    }
}

/// Who it may be, each with what must hold for it, and the fact that tells them apart.
pub(super) struct People {
    pub possible: Vec<(Arc<str>, Person)>,
    pub question: Option<Unknown>,
}

impl People {
    pub(super) fn one(person: Person) -> Self {
        Self { possible: vec![(Arc::from(""), person)], question: None }
    }
}
