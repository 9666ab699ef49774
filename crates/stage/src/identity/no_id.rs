//! `(uid_t)-1` where a runtime lets it through (docs/facts/runtimes.md 1.5).

use mivask_model::ids::NO_ID;

use super::{IdentityFact, IdentityField};

/// The id a process has where `setresuid` and `setresgid` take [`NO_ID`] for "leave it": once its runtime, which is root, has asked for `id`.
pub(super) const fn after_setting(id: u32) -> u32 {
    if id == NO_ID { 0 } else { id }
}

/// Says of every such user and group what becomes of it.
pub(super) fn note(facts: &mut [IdentityFact]) {
    for fact in facts.iter_mut().filter(|fact| matches!(fact.field, IdentityField::Uid | IdentityField::Gid))
    {
        if fact.value.parse() == Ok(NO_ID) {
            fact.value = format!("0, for {NO_ID} is (uid_t)-1, which leaves the runtime's own");
        }
    }
}

/// Why a process with these additional groups does not start.
pub(super) fn refused(groups: impl IntoIterator<Item = u32>) -> Option<String> {
    let why = || format!("setgroups: Invalid argument, for {NO_ID} is (gid_t)-1");
    groups.into_iter().any(|gid| gid == NO_ID).then(why)
}
