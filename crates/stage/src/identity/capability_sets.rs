//! Which capabilities a container starts with (docs/facts/runtimes.md section 2, kubelet.md section 2).

use mivask_model::caps::{Capability, CapabilitySet};
use mivask_model::fact::{Fact, Provenance};

use crate::runtime::{Both, CapabilityNames, CapabilityRules};

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
    /// Where it is.
    pub from: Provenance,
    /// The name that would have worked, if there is one.
    pub meant: Option<&'static str>,
}

/// What a runtime makes of `add`, `drop` and `privileged`.
#[derive(Debug)]
pub(crate) struct RootSet {
    /// What root gets, which is also everyone's bounding set.
    pub set: CapabilitySet,
    /// What is in force for users other than root.
    pub ambient: CapabilitySet,
    /// Names that were passed over.
    pub ignored: Vec<IgnoredCapability>,
    /// Why the container is refused, with the name that causes it.
    pub refused: Option<(String, Provenance)>,
}

/// The sets that `rules` make of what is declared.
pub(crate) fn root_set(
    rules: &CapabilityRules,
    declared: &DeclaredCapabilities,
    privileged: bool,
) -> RootSet {
    let mut result =
        RootSet { set: rules.all, ambient: CapabilitySet::EMPTY, ignored: Vec::new(), refused: None };
    let add = result.named(rules, &declared.add);
    let drop = result.named(rules, &declared.drop);
    let add_all = names_all(&declared.add);
    if privileged {
        // It changes nothing for root; for others what was added is in force (Podman 4.3, measured).
        if rules.ambient {
            result.ambient = if add_all { result.set } else { add };
        }
        return result;
    }
    let drop_all = names_all(&declared.drop);
    let clash = add.intersection(drop).iter().next();
    if rules.both == Both::Refused && (clash.is_some() || add_all && drop_all) {
        let name = clash.map_or("ALL", Capability::name);
        let from =
            declared.drop.first().map_or_else(|| Provenance::rule("both lists"), |name| name.from.clone());
        result.refused.get_or_insert((format!("{name} cannot be dropped and added at once"), from));
    }
    let start = if add_all { rules.all } else { rules.default };
    result.set = match rules.both {
        // `ALL` in both gives all, and a name in both stays; but `add: [ALL]` keeps what `drop` names away.
        Both::Kept if add_all => rules.all.minus(drop),
        Both::Kept if drop_all => add,
        Both::Kept => start.minus(drop).union(add),
        Both::Dropped | Both::Refused if drop_all => add.minus(drop),
        Both::Dropped | Both::Refused => start.union(add).minus(drop),
    };
    if rules.ambient {
        result.ambient = if add_all { result.set } else { add.intersection(result.set) };
    }
    result
}

impl RootSet {
    /// The single names of a list; those the runtime does not know are passed over or refused.
    fn named(&mut self, rules: &CapabilityRules, names: &[Fact<String>]) -> CapabilitySet {
        let mut set = CapabilitySet::EMPTY;
        for name in names.iter().filter(|name| !is_all(&name.value)) {
            let known = match rules.names {
                CapabilityNames::Bare => Capability::by_bare_name(&name.value),
                CapabilityNames::Either => Capability::by_name(&name.value),
            };
            match (known, rules.names) {
                (Some(capability), _) => set = set.with(capability),
                (None, CapabilityNames::Bare) => self.ignored.push(ignore(name)),
                (None, CapabilityNames::Either) => {
                    let reason = format!("there is no capability `{}`", name.value);
                    self.refused.get_or_insert((reason, name.from.clone()));
                }
            }
        }
        set
    }
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
    use crate::runtime::Runtime;

    fn root(runtime: Runtime, add: &[&str], drop: &[&str], privileged: bool) -> RootSet {
        let facts = |names: &[&str]| {
            names.iter().map(|name| Fact::new((*name).to_owned(), Provenance::rule("test"))).collect()
        };
        let declared = DeclaredCapabilities { add: facts(add), drop: facts(drop) };
        root_set(&runtime.profile().capabilities, &declared, privileged)
    }

    fn set(add: &[&str], drop: &[&str], privileged: bool) -> (CapabilitySet, usize) {
        let root = root(Runtime::Containerd, add, drop, privileged);
        (root.set, root.ignored.len())
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

    // The rows of docs/facts/kubelet.md section 2.
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

    macro_rules! engines {
        ($($name:ident: $runtime:ident $add:expr, $drop:expr, $privileged:expr => $set:expr, others $ambient:expr;)+) => {$(
            #[test]
            fn $name() {
                let root = root(Runtime::$runtime, &$add, &$drop, $privileged);
                assert_eq!((root.set, root.ambient, root.refused), ($set, $ambient, None));
            }
        )+};
    }

    const DOCKER_ALL: CapabilitySet = CapabilitySet::from_bits((1 << 38) - 1);
    const ELEVEN: CapabilitySet = CapabilitySet::from_bits(0x8004_05fb);
    const MKNOD: CapabilitySet = NONE.with(Capability::Mknod);

    // The rows of docs/facts/runtimes.md section 2.
    engines! {
        docker_default: Docker [], [], false => CRI_DEFAULT, others NONE;
        docker_adds_for_root_alone: Docker ["cap_net_admin"], [], false => CRI_DEFAULT.with(Capability::NetAdmin), others NONE;
        docker_drops_all: Docker [], ["ALL"], false => NONE, others NONE;
        docker_drops_all_but_one: Docker ["MKNOD"], ["ALL"], false => MKNOD, others NONE;
        docker_adds_all: Docker ["ALL"], [], false => DOCKER_ALL, others NONE;
        docker_keeps_what_is_in_both: Docker ["CHOWN"], ["CHOWN"], false => CRI_DEFAULT, others NONE;
        docker_all_in_both_is_all: Docker ["ALL"], ["ALL"], false => DOCKER_ALL, others NONE;
        docker_drops_one: Docker [], ["CAP_CHOWN"], false => CRI_DEFAULT.without(Capability::Chown), others NONE;
        docker_privileged_ignores_drop: Docker [], ["ALL"], true => DOCKER_ALL, others NONE;
        podman_default: Podman [], [], false => ELEVEN, others NONE;
        podman_adds_for_everybody: Podman ["MKNOD"], [], false => ELEVEN.with(Capability::Mknod), others MKNOD;
        podman_drops_all_but_one: Podman ["mknod"], ["all"], false => MKNOD, others MKNOD;
        podman_adds_all: Podman ["ALL"], [], false => ALL, others ALL;
        podman_privileged_is_for_root: Podman [], ["ALL"], true => ALL, others NONE;
    }

    #[test]
    fn engines_refuse_unknown_names_and_podman_what_is_in_both() {
        let reason = |runtime, add: &[&str], drop: &[&str]| {
            root(runtime, add, drop, false).refused.map(|(why, _)| why)
        };
        assert_eq!(reason(Runtime::Docker, &["NOSUCH"], &[]).unwrap(), "there is no capability `NOSUCH`");
        assert_eq!(
            reason(Runtime::Podman, &["CHOWN"], &["CHOWN"]).unwrap(),
            "CHOWN cannot be dropped and added at once"
        );
        assert_eq!(
            reason(Runtime::Podman, &["ALL"], &["ALL"]).unwrap(),
            "ALL cannot be dropped and added at once"
        );
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
