//! Actors that the host's SELinux does not confine.

use mivask_model::fact::Provenance;
use mivask_stage::identity::IdentityField;
use mivask_stage::stage::{Actor, Role};

use super::{Kind, Severity, Single};

/// The type of containers without a label of their own.
const WITHOUT: &str = ":spc_t:";

/// Adds a finding where `label=disable`, `privileged` or the host's namespaces leave a container without a label of its own.
pub(super) fn look(actor: &Actor, singles: &mut Vec<Single>) {
    if actor.role == Role::Person || actor.guest {
        return;
    }
    let label = actor.facts().iter().find(|fact| fact.field == IdentityField::Label);
    let Some(label) = label.filter(|label| label.value.contains(WITHOUT)) else { return };
    let rule = || Provenance::rule("privileged, or the host's namespaces");
    let asked = !matches!(label.from, Provenance::Rule(_));
    singles.push(Single {
        kind: Kind::Unconfined,
        severity: Severity::Medium,
        on: actor.name.clone(),
        path: Vec::new(),
        actor: Some(actor.name.to_string()),
        fact: format!("label {}", label.value),
        consequence: "SELinux keeps it from nothing: whoever breaks out of it meets owners and modes alone; label its mounts (`z`, `Z`) and let the \
                      engine confine it"
            .to_owned(),
        from: if asked { label.from.clone() } else { rule() },
        declared: false,
        usual: false,
    });
}
