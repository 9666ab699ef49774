//! What a process of one user string may do beside who it is.

use std::sync::Arc;

use mivask_model::caps::CapabilitySet;
use mivask_model::fact::{Fact, Provenance};
use mivask_model::ids::{InsideGid, InsideUid, UserNamespace};
use mivask_model::mode::Mode;

use super::capability_sets::{RootSet, root_set, set_in_words};
use super::groups::sorted;
use super::notes::Notes;
use super::people::Person;
use super::{Identity, IdentityField, PlainIdentity};
use crate::runtime::Profile;

/// Capabilities, umask and no_new_privs.
pub(super) struct Privileges {
    root: RootSet,
    effective: Option<CapabilitySet>,
    umask: Mode,
    no_new_privileges: bool,
}

impl Privileges {
    pub(super) fn of(asked: &PlainIdentity, profile: &Profile, notes: &mut Notes<'_>) -> Self {
        let privileged = asked.privileged.as_ref().is_some_and(|fact| fact.value);
        let root = root_set(&profile.capabilities, &asked.capabilities, privileged);
        if let Some((reason, from)) = root.refused.clone() {
            notes.refuse(reason, from);
        }
        let declared = asked.capabilities.drop.first().or(asked.capabilities.add.first());
        if let (Some(name), None) = (declared, &asked.effective) {
            notes.fact(IdentityField::Bounding, set_in_words(root.set), name.from.clone());
        }
        for name in &root.ignored {
            let hint = name.meant.map_or(String::new(), |meant| format!("; write {meant}"));
            notes.fact(
                IdentityField::Capability,
                format!("{} ignored: CRI knows no such name{hint}", name.name),
                name.from.clone(),
            );
        }
        let umask = asked
            .umask
            .clone()
            // Runtimes set the umask themselves, so that of the engine's own process decides nothing.
            .unwrap_or_else(|| Fact::new(Mode::new(0o022), Provenance::rule("the runtime's default umask")));
        notes.fact(IdentityField::Umask, umask.value, umask.from.clone());
        if let Some(effective) = &asked.effective {
            notes.fact(IdentityField::Effective, effective.value, effective.from.clone());
        }
        if let Some(given) = &asked.no_new_privileges {
            notes.fact(IdentityField::NoNewPrivileges, given.value, given.from.clone());
        }
        Self {
            root,
            effective: asked.effective.as_ref().map(|fact| fact.value),
            umask: umask.value,
            no_new_privileges: asked.no_new_privileges.as_ref().is_some_and(|fact| fact.value),
        }
    }

    pub(super) fn identity(&self, person: Person) -> Identity {
        // execve gives root what the bounding set allows and anybody else the ambient set (capabilities(7)).
        let derived = if person.uid.is(0) { self.root.set } else { self.root.ambient };
        let in_force = self.effective.unwrap_or(derived);
        let ambient = if self.effective.is_none() { self.root.ambient } else { CapabilitySet::EMPTY };
        Identity {
            real: None,
            uid: person.uid.map(InsideUid::new),
            gid: person.gid.map(InsideGid::new),
            unmapped_groups: Arc::default(),
            groups: sorted(person.groups),
            effective: in_force,
            permitted: in_force,
            // Nothing is in force that the bounding set lacks, whatever else is set.
            bounding: self.root.set.union(in_force),
            inheritable: ambient,
            ambient: if person.uid.is(0) { CapabilitySet::EMPTY } else { ambient },
            umask: self.umask,
            no_new_privileges: self.no_new_privileges,
            namespace: Arc::new(UserNamespace::initial()),
        }
    }
}
