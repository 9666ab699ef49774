//! Capabilities, umask and no-new-privileges on top of the numbers.

use std::sync::Arc;

use mivask_model::caps::CapabilitySet;
use mivask_model::credentials::Identity;
use mivask_model::fact::{Fact, Provenance};
use mivask_model::ids::{InsideGid, InsideUid, UserNamespace};
use mivask_model::mode::Mode;
use mivask_model::refusal::Refusal;
use mivask_model::refusal::RefusalClass;

use super::Case;
use super::numbers::Possibilities;
use crate::identity::IdentityField;
use crate::identity::Resolved;
use crate::identity::capability_sets::{IgnoredCapability, RootSet, root_set, set_in_words};
use crate::identity::groups::sorted;

/// What is said of a capability that nobody knows.
fn passed_over(name: &IgnoredCapability) -> String {
    let hint = name.meant.map_or(String::new(), |meant| format!("; write {meant}"));
    format!("{} ignored: CRI knows no such name{hint}", name.name)
}

impl Case<'_> {
    pub(super) fn privileges(mut self, possibilities: Possibilities, refusal: Option<Refusal>) -> Resolved {
        let privileged = self.container.privileged.as_ref().is_some_and(|fact| fact.value);
        let rules = &self.profile.capabilities;
        let RootSet { set, ignored, refused, .. } = root_set(rules, &self.container.capabilities, privileged);
        let from = self.capability_source(privileged);
        self.fact(IdentityField::Bounding, set_in_words(set), from);
        for name in ignored {
            self.fact(IdentityField::Capability, passed_over(&name), name.from);
        }
        let umask = self.umask();
        self.fact(IdentityField::Umask, umask.value, umask.from.clone());
        let escalation = self.container.allow_privilege_escalation.clone();
        let no_new_privileges = escalation.as_ref().is_some_and(|allowed| !allowed.value);
        if let Some(allowed) = escalation {
            self.fact(IdentityField::NoNewPrivileges, no_new_privileges, allowed.from);
        }
        let namespace = Arc::new(UserNamespace::initial());
        let large = possibilities.possible.iter().find_map(|(_, numbers)| numbers.too_large(self.accounts()));
        let possible = possibilities
            .possible
            .into_iter()
            .map(|(when, numbers)| {
                // A process that is not root starts without effective capabilities, whatever was added.
                let in_force = if numbers.uid.is(0) { set } else { CapabilitySet::EMPTY };
                let identity = Identity {
                    real: None,
                    uid: numbers.uid.map(InsideUid::new),
                    gid: numbers.gid.map(InsideGid::new),
                    unmapped_groups: Arc::default(),
                    groups: sorted(numbers.groups),
                    effective: in_force,
                    permitted: in_force,
                    bounding: set,
                    inheritable: CapabilitySet::EMPTY,
                    ambient: CapabilitySet::EMPTY,
                    umask: umask.value,
                    no_new_privileges,
                    namespace: namespace.clone(),
                };
                (when, identity)
            })
            .collect();
        let mut resolved = Resolved {
            possible,
            question: possibilities.question,
            name: possibilities.name,
            facts: self.facts,
            refusal,
            assumptions: self.assumptions,
        };
        let mut refuse = |class, reason, from| {
            resolved.refusal.get_or_insert(Refusal { class, reason, from, whole_pod: false });
        };
        if let Some((reason, from)) = refused {
            refuse(RefusalClass::CreateContainerError, reason, from);
        }
        if let Some(id) = large {
            let reason = format!("{id} is out of range: runc takes ids up to 2147483647");
            refuse(RefusalClass::StartError, reason, Provenance::rule("the image's account files"));
        }
        resolved
    }

    fn umask(&self) -> Fact<Mode> {
        let default = || Fact::new(Mode::new(0o022), Provenance::rule("the runtime's default umask"));
        self.container.umask.clone().unwrap_or_else(default)
    }

    fn capability_source(&self, privileged: bool) -> Provenance {
        let declared = &self.container.capabilities;
        if let (true, Some(fact)) = (privileged, &self.container.privileged) {
            return fact.from.clone();
        }
        let first = declared.drop.first().or(declared.add.first());
        first.map_or_else(|| Provenance::rule("the runtime's default set"), |name| name.from.clone())
    }
}
