//! Capabilities that the policy keeps from a domain (`cred_has_capability` in security/selinux/hooks.c).

use mivask_label::{Context, Policy, Unknown};
use mivask_model::caps::{Capability, CapabilitySet};

/// What `process` may not use: the classes are those of the host's user namespace (`capability`, `capability2`) or of
/// another one (`cap_userns`, `cap2_userns`), 32 capabilities each.
pub(super) fn denied(policy: &Policy, process: &Context, initial: bool) -> CapabilitySet {
    let classes = if initial { ["capability", "capability2"] } else { ["cap_userns", "cap2_userns"] };
    let may = |capability: Capability| {
        let class = classes[usize::from(capability as u64 >= 32)];
        let name = capability.name().to_ascii_lowercase();
        let known = policy.class(class).and_then(|class| Some((class, class.permission(&name)?)));
        match known {
            Some((class, bit)) => policy.decide(process, process, class.id()).allowed & bit != 0,
            None => policy.unknown() == Unknown::Allow,
        }
    };
    let denied = Capability::ALL.iter().copied().filter(|capability| !may(*capability));
    denied.fold(CapabilitySet::EMPTY, CapabilitySet::with)
}
