//! Who a process of an OCI runtime configuration is (docs/facts/runtimes.md 1.5 and 10).

use std::sync::Arc;

use mivask_model::accounts::Accounts;
use mivask_model::caps::CapabilitySet;
use mivask_model::fact::{Fact, Provenance};
use mivask_model::held::Held;
use mivask_model::ids::{InsideGid, InsideUid, UserNamespace};
use mivask_model::mode::Mode;
use mivask_model::refusal::RefusalClass;

use super::groups::{captured, sorted, too_large};
use super::no_id;
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
    let uid = no_id::after_setting(asked.uid.value);
    let gid = no_id::after_setting(asked.gid.value);
    let ambient = asked.ambient.intersection(asked.inheritable).intersection(asked.permitted);
    let in_force = if uid == 0 { of_root(asked, no_new_privileges) } else { ambient };
    let identity = Identity {
        real: None,
        uid: Held::Id(InsideUid::new(uid)),
        gid: Held::Id(InsideGid::new(gid)),
        unmapped_groups: Arc::default(),
        groups: sorted(groups.iter().copied().map(Held::Id)),
        effective: in_force,
        permitted: in_force,
        bounding: asked.bounding,
        inheritable: asked.inheritable,
        ambient,
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
    let reason = refusal(asked, &groups, accounts, profile);
    if !profile.identity.refuses_large_ids {
        no_id::note(&mut resolved.facts);
    }
    resolved.refusal = reason.map(|reason| {
        let from = asked.uid.from.clone();
        Refusal { class: RefusalClass::StartRefused, reason, from, whole_pod: false }
    });
    resolved
}

/// What execve leaves root: its file permissions are full, but without new privileges it gets no more than was held before
/// (`cap_bprm_creds_from_file`). Everyone else keeps the ambient set alone.
const fn of_root(asked: &ProcessIdentity, no_new_privileges: bool) -> CapabilitySet {
    let all = asked.bounding.union(asked.inheritable);
    if no_new_privileges { all.intersection(asked.permitted) } else { all }
}

/// Why the runtime does not start a process with these ids.
fn refusal(
    asked: &ProcessIdentity,
    groups: &[u32],
    accounts: &Knowledge<Accounts>,
    profile: &Profile,
) -> Option<String> {
    let groups = groups.iter().copied();
    if !profile.identity.refuses_large_ids {
        return no_id::refused(groups);
    }
    too_large(Some(asked.uid.value), Some(asked.gid.value), groups, accounts.known())
        .map(|id| format!("{id} is out of range: runc takes ids up to 2147483647"))
}
