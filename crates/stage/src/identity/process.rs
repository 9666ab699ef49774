//! Who a process of an OCI runtime configuration is (docs/facts/runtimes.md 1.5 and 10).

use std::sync::Arc;

use mivask_model::accounts::Accounts;
use mivask_model::fact::{Fact, Provenance};
use mivask_model::ids::{InsideGid, InsideUid, UserNamespace};
use mivask_model::mode::Mode;
use mivask_model::refusal::RefusalClass;

use super::groups::{captured, sorted, too_large};
use super::{Identity, IdentityFact, Knowledge, ProcessIdentity, Refusal, Resolved};
use crate::identity::IdentityField;
use crate::runtime::Profile;

/// The identity that `asked` gives; `accounts` are those of the root filesystem, which runc 1.1 looks into.
#[must_use]
pub fn process_identity(
    asked: &ProcessIdentity,
    accounts: &Knowledge<Accounts>,
    profile: &Profile,
) -> Resolved {
    let mut facts = Vec::new();
    let mut fact = |field, value: String, from: &Provenance| {
        facts.push(IdentityFact { field, value, from: from.clone() });
    };
    fact(IdentityField::Uid, asked.uid.value.to_string(), &asked.uid.from);
    fact(IdentityField::Gid, asked.gid.value.to_string(), &asked.gid.from);
    asked.groups.iter().for_each(|group| fact(IdentityField::Group, group.value.to_string(), &group.from));
    let default = Fact::new(Mode::new(0o022), Provenance::rule("the runtime's default umask"));
    let umask = asked.umask.clone().unwrap_or(default);
    fact(IdentityField::Umask, umask.value.to_string(), &umask.from);
    let no_new_privileges = asked.no_new_privileges.as_ref().is_some_and(|given| given.value);
    if let Some(given) = &asked.no_new_privileges {
        fact(IdentityField::NoNewPrivileges, given.value.to_string(), &given.from);
    }
    let mut groups: Vec<u32> = asked.groups.iter().map(|group| group.value).collect();
    let mut assumptions: Vec<Arc<str>> = Vec::new();
    if profile.identity.captures_group_names && !groups.is_empty() {
        match accounts {
            Knowledge::Known(accounts) => groups = captured(&groups, accounts, &mut facts),
            Knowledge::Unknown => {
                assumptions.push("no group of the root file system has a number for its name".into());
            }
        }
    }
    // execve: root's file permissions are full, everyone else keeps the ambient set alone.
    let in_force = if asked.uid.value == 0 {
        asked.bounding.union(asked.inheritable)
    } else {
        asked.ambient.intersection(asked.inheritable).intersection(asked.permitted)
    };
    let identity = Identity {
        uid: InsideUid::new(asked.uid.value),
        gid: InsideGid::new(asked.gid.value),
        groups: sorted(groups),
        effective: in_force,
        permitted: in_force,
        bounding: asked.bounding,
        umask: umask.value,
        no_new_privileges,
        namespace: Arc::new(UserNamespace::initial()),
    };
    let mut resolved = Resolved {
        possible: vec![(Arc::from(""), identity)],
        question: None,
        name: None,
        facts,
        refusal: None,
        assumptions,
    };
    if profile.identity.refuses_large_ids
        && let Some(id) = too_large(&resolved)
    {
        let reason = format!("{id} is out of range: runc takes ids up to 2147483647");
        let from = asked.uid.from.clone();
        resolved.refusal =
            Some(Refusal { class: RefusalClass::StartRefused, reason, from, whole_pod: false });
    }
    resolved
}
