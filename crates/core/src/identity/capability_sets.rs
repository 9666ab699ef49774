//! Which capabilities a container starts with (facts/runtimes.md section 2, kubelet.md section 2).

use crate::caps::{Capability, CapabilitySet};
use crate::fact::{Fact, Provenance};

/// The default set of containerd's CRI plugin and of Docker: 14 capabilities, measured.
pub const CRI_DEFAULT: CapabilitySet = CapabilitySet::from_bits(0xa804_25fb);

/// A set in words: by its distance from the long default set where that is short, else by name.
#[must_use]
pub fn set_in_words(set: CapabilitySet) -> String {
    let default = CRI_DEFAULT.iter().count();
    let names = |left: CapabilitySet, right: CapabilitySet, sign: &str| -> Vec<String> {
        left.iter().filter(|cap| !right.has(*cap)).map(|cap| format!(" {sign} {}", cap.name())).collect()
    };
    let added = names(set, CRI_DEFAULT, "+");
    let dropped = names(CRI_DEFAULT, set, "-");
    if added.len() + dropped.len() > 4 {
        return set.to_string();
    }
    format!("the default {default}{}{}", added.concat(), dropped.concat())
}

/// The `add` and `drop` lists of a description, names as written.
#[derive(Clone, Debug, Default)]
pub struct DeclaredCapabilities {
    /// Names to add.
    pub add: Vec<Fact<String>>,
    /// Names to drop.
    pub drop: Vec<Fact<String>>,
}

/// A name in `add` or `drop` that the runtime passes over silently.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct IgnoredCapability {
    /// The name as written.
    pub name: String,
    /// Where it stands.
    pub from: Provenance,
    /// The name that would have worked, if there is one.
    pub meant: Option<&'static str>,
}

/// The set root gets under CRI, which is also the bounding set of everybody.
///
/// Names match in any letter case but without the `CAP_` prefix; others are ignored silently.
/// `drop` wins over `add`; `privileged` wins over both.
pub(crate) fn cri_set(
    declared: &DeclaredCapabilities,
    privileged: bool,
) -> (CapabilitySet, Vec<IgnoredCapability>) {
    let mut ignored = Vec::new();
    if privileged {
        return (CapabilitySet::ALL, ignored);
    }
    let mut set = CRI_DEFAULT;
    if names_all(&declared.add) {
        set = CapabilitySet::ALL;
    }
    if names_all(&declared.drop) {
        set = CapabilitySet::EMPTY;
    }
    // With `drop: [ALL]` single names in `add` still count; with both ALL nothing is left.
    for name in declared.add.iter().filter(|name| !is_all(&name.value)) {
        match Capability::by_bare_name(&name.value) {
            Some(capability) => set = set.with(capability),
            None => ignored.push(ignore(name)),
        }
    }
    for name in declared.drop.iter().filter(|name| !is_all(&name.value)) {
        match Capability::by_bare_name(&name.value) {
            Some(capability) => set = set.without(capability),
            None => ignored.push(ignore(name)),
        }
    }
    (set, ignored)
}

fn is_all(name: &str) -> bool {
    name.eq_ignore_ascii_case("ALL")
}

fn names_all(names: &[Fact<String>]) -> bool {
    names.iter().any(|name| is_all(&name.value))
}

fn ignore(name: &Fact<String>) -> IgnoredCapability {
    let all = name.value.get(4..).is_some_and(is_all);
    let meant = Capability::by_name(&name.value).map(Capability::name).or(all.then_some("ALL"));
    IgnoredCapability { name: name.value.clone(), from: name.from.clone(), meant }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn set(add: &[&str], drop: &[&str], privileged: bool) -> (CapabilitySet, usize) {
        let facts = |names: &[&str]| {
            names.iter().map(|name| Fact::new((*name).to_owned(), Provenance::rule("test"))).collect()
        };
        let declared = DeclaredCapabilities { add: facts(add), drop: facts(drop) };
        let (set, ignored) = cri_set(&declared, privileged);
        (set, ignored.len())
    }

    macro_rules! measured {
        ($($name:ident: $add:expr, $drop:expr, $privileged:expr => $set:expr, $ignored:expr;)+) => {$(
            #[test]
            fn $name() {
                assert_eq!(set(&$add, &$drop, $privileged), ($set, $ignored));
            }
        )+};
    }

    const ALL: CapabilitySet = CapabilitySet::ALL;
    const NONE: CapabilitySet = CapabilitySet::EMPTY;

    // The rows of facts/kubelet.md section 2.
    measured! {
        default_set: [], [], false => CRI_DEFAULT, 0;
        added_in_any_case: ["net_admin"], [], false => CRI_DEFAULT.with(Capability::NetAdmin), 0;
        a_prefixed_add_is_ignored: ["CAP_NET_ADMIN"], [], false => CRI_DEFAULT, 1;
        an_unknown_add_is_ignored: ["NOSUCH"], [], false => CRI_DEFAULT, 1;
        a_prefixed_drop_drops_nothing: [], ["CAP_CHOWN"], false => CRI_DEFAULT, 1;
        drop_all_in_any_case: [], ["all"], false => NONE, 0;
        drop_all_add_one: ["DAC_OVERRIDE"], ["ALL"], false => NONE.with(Capability::DacOverride), 0;
        drop_all_add_a_prefixed_one: ["CAP_DAC_OVERRIDE"], ["ALL"], false => NONE, 1;
        add_and_drop_the_same_drops_it: ["CHOWN"], ["CHOWN"], false => CRI_DEFAULT.without(Capability::Chown), 0;
        add_all_drop_one: ["ALL"], ["CHOWN"], false => ALL.without(Capability::Chown), 0;
        add_all_drop_all_leaves_nothing: ["ALL"], ["ALL"], false => NONE, 0;
        privileged_ignores_drop: [], ["ALL"], true => ALL, 0;
    }

    #[test]
    fn a_set_is_told_by_its_distance_from_the_default() {
        let words = |set| set_in_words(set);
        assert_eq!(words(CRI_DEFAULT), "the default 14");
        assert_eq!(
            words(CRI_DEFAULT.with(Capability::NetAdmin).without(Capability::Chown)),
            "the default 14 + NET_ADMIN - CHOWN"
        );
        assert_eq!((words(NONE), words(ALL)), ("none".to_owned(), "all".to_owned()));
    }
}
