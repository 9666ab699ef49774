//! Capabilities added to and dropped from a container.

use mivask_model::caps::{Capability, CapabilitySet};
use mivask_model::fact::{Fact, Provenance};
use mivask_stage::identity::{DeclaredCapabilities, PlainIdentity, ProcessIdentity, Resolved};
use mivask_stage::scene::Who;

pub(super) fn is_all(name: &str) -> bool {
    name.eq_ignore_ascii_case("all")
}

pub(super) fn capabilities(
    who: &mut Who,
    names: &[String],
    add: bool,
    from: &Provenance,
) -> Result<(), String> {
    let mut set = CapabilitySet::EMPTY;
    for name in names {
        match Capability::by_name(name) {
            _ if is_all(name) => set = CapabilitySet::ALL,
            Some(capability) => set = set.with(capability),
            None => return Err(format!("there is no capability `{name}`")),
        }
    }
    match who {
        Who::Kubernetes(security) => declare(&mut security.capabilities, names, add, from),
        Who::Plain(plain) => declare_plain(plain, names, (set, add), from),
        Who::Process(process) => {
            let ProcessIdentity { bounding, effective, permitted, inheritable, ambient, .. } = &mut **process;
            for sets in [bounding, effective, permitted, inheritable, ambient] {
                *sets = if add { sets.union(set) } else { sets.minus(set) };
            }
        }
        Who::Running(resolved) => running(resolved, set, add),
    }
    Ok(())
}

pub(super) fn declare_plain(
    plain: &mut PlainIdentity,
    names: &[String],
    (set, add): (CapabilitySet, bool),
    from: &Provenance,
) {
    declare(&mut plain.capabilities, names, add, from);
    // Stated capabilities win over derived ones, so they change too.
    if let Some(effective) = &mut plain.effective {
        effective.value = if add { effective.value.union(set) } else { effective.value.minus(set) };
    }
}

pub(super) fn bare(name: &str) -> String {
    Capability::by_name(name).map_or_else(|| name.to_owned(), |known| known.name().to_owned())
}

/// A name that is dropped is no longer added, and the other way round.
pub(super) fn declare(declared: &mut DeclaredCapabilities, names: &[String], add: bool, from: &Provenance) {
    let (to, other) =
        if add { (&mut declared.add, &mut declared.drop) } else { (&mut declared.drop, &mut declared.add) };
    for name in names {
        other.retain(|given| !bare(&given.value).eq_ignore_ascii_case(&bare(name)));
        if is_all(name) && !add {
            other.clear();
        }
        to.push(Fact::new(bare(name), from.clone()));
    }
}

pub(super) fn running(resolved: &mut Resolved, set: CapabilitySet, add: bool) {
    for (_, identity) in &mut resolved.possible {
        for held in [&mut identity.effective, &mut identity.permitted, &mut identity.bounding] {
            *held = if add { held.union(set) } else { held.minus(set) };
        }
    }
}
