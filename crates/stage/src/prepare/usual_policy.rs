//! What stands for the policy of a host that enforces one, and of which no more is told: what policies with container domains have in
//! common (`policy/usual.cil`, in our own words; `least.33` and `most.33` are what secilc makes of it).

use std::sync::{Arc, OnceLock};

use mivask_label::Policy;

use crate::scene::{Selinux, SelinuxMode};

/// Both are made of one list of types.
const LEAST: &[u8] = include_bytes!("policy/least.33");
const MOST: &[u8] = include_bytes!("policy/most.33");

/// Said with every answer that rests on it.
pub(super) const ASSUMED: &str = "the host's policy, which is not given, is like those with container domains: they let containers use \
                                  container_file_t within their level, and nothing of home folders and logs, and leave them the capabilities they have; where they differ it depends";

/// What is permitted at least, and at most.
pub(super) struct Bounds {
    pub(super) least: Arc<Policy>,
    pub(super) most: Arc<Policy>,
}

/// Both; `None` if they do not read, which a test rules out.
pub(super) fn bounds() -> Option<&'static Bounds> {
    static READ: OnceLock<Option<Bounds>> = OnceLock::new();
    READ.get_or_init(|| {
        let read = |bytes| Policy::read(bytes).ok().map(Arc::new);
        Some(Bounds { least: read(LEAST)?, most: read(MOST)? })
    })
    .as_ref()
}

/// The policy by which labels on `host` are read: its own, or what stands for that.
#[must_use]
pub fn read_by(host: &Selinux) -> Option<&Policy> {
    let own = host.policy.as_deref();
    own.or_else(|| bounds().filter(|_| host.mode == SelinuxMode::Enforcing).map(|bounds| &*bounds.least))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_reads_and_some_permit_more() {
        let Bounds { least, most } = bounds().expect("it reads");
        let may = |policy: &Policy, target: &str, words: &[&str]| {
            let context = |text| policy.context(text).expect("a label");
            let container = context("system_u:system_r:container_t:s0:c1,c2");
            let file = policy.class("file").expect("a class");
            let wanted = words.iter().filter_map(|word| file.permission(word)).fold(0, |all, bit| all | bit);
            policy.decide(&container, &context(target), file.id()).allowed & wanted == wanted
        };
        for (label, words, wanted) in [
            ("system_u:object_r:container_file_t:s0:c1,c2", &["open", "write", "create"][..], [true, true]),
            ("system_u:object_r:container_file_t:s0", &["open", "write"], [true, true]),
            ("system_u:object_r:container_file_t:s0:c3,c4", &["open", "read"], [false, false]),
            ("system_u:object_r:container_file_t:s0:c3,c4", &["getattr"], [false, true]),
            ("system_u:object_r:container_ro_file_t:s0", &["open", "read"], [true, true]),
            ("system_u:object_r:container_ro_file_t:s0", &["write"], [false, false]),
            ("unconfined_u:object_r:user_home_t:s0", &["open", "read"], [false, false]),
            ("system_u:object_r:usr_t:s0", &["open", "read"], [false, true]),
            ("system_u:object_r:usr_t:s0", &["write"], [false, false]),
            ("system_u:object_r:nfs_t:s0", &["open", "write"], [false, true]),
        ] {
            assert_eq!([may(least, label, words), may(most, label, words)], wanted, "{label} {words:?}");
        }
    }
}
