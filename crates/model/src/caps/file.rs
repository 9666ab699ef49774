//! File capabilities (capabilities(7), security.capability).

use std::fmt;
use std::str::FromStr;

use super::{Capability, CapabilitySet};

/// What a program file adds to the process that runs it (`struct cpu_vfs_cap_data`).
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct FileCapabilities {
    /// Given to every process whose bounding set has them.
    pub permitted: CapabilitySet,
    /// Given where the process's inheritable set has them too; containers start with none there.
    pub inheritable: CapabilitySet,
    /// Whether what is given is in force at once.
    pub effective: bool,
    /// The kernel's user id of the root user these capabilities belong to: 0 for the ordinary kind, another one
    /// for those set inside a user namespace (version 3 of the attribute).
    pub root: u32,
}

impl FileCapabilities {
    /// The attribute without a capability in it, the host's.
    pub const NONE: Self = Self {
        permitted: CapabilitySet::EMPTY,
        inheritable: CapabilitySet::EMPTY,
        effective: false,
        root: 0,
    };
}

/// A text that names no file capabilities.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("`{0}` names no file capabilities: write NAMES=FLAGS, such as CHOWN,FOWNER=ep")]
pub struct FileCapabilitiesError(String);

impl FromStr for FileCapabilities {
    type Err = FileCapabilitiesError;

    /// `NAMES=FLAGS` or `NAMES+FLAGS`: names with or without `CAP_`, or `all`; flags of `eip`.
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let error = || FileCapabilitiesError(text.to_owned());
        let (names, flags) = text.split_once(['=', '+']).ok_or_else(error)?;
        if flags.is_empty() || !flags.chars().all(|flag| "eip".contains(flag)) {
            return Err(error());
        }
        let set = if names.eq_ignore_ascii_case("all") {
            CapabilitySet::ALL
        } else {
            let members: Option<CapabilitySet> =
                names.split(',').map(|name| Capability::by_name(name.trim())).collect();
            members.ok_or_else(error)?
        };
        let of = |flag| if flags.contains(flag) { set } else { CapabilitySet::EMPTY };
        Ok(Self { permitted: of('p'), inheritable: of('i'), effective: flags.contains('e'), root: 0 })
    }
}

impl fmt::Display for FileCapabilities {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let names: Vec<&str> = self.permitted.union(self.inheritable).iter().map(Capability::name).collect();
        let flags =
            [(self.effective, 'e'), (!self.inheritable.is_empty(), 'i'), (!self.permitted.is_empty(), 'p')];
        let flags: String = flags.iter().filter(|(set, _)| *set).map(|(_, flag)| *flag).collect();
        write!(f, "{}={flags}", names.join(","))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_flags_are_read() {
        let caps: FileCapabilities = "cap_chown,FOWNER+ep".parse().unwrap();
        assert!(caps.effective && caps.permitted.has(Capability::Chown) && caps.inheritable.is_empty());
        assert_eq!(caps.to_string(), "CHOWN,FOWNER=ep");
        for text in ["", "CHOWN", "CHOWN=", "CHOWN=q", "SWIM=ep", "=ep"] {
            assert!(text.parse::<FileCapabilities>().is_err(), "{text}");
        }
    }
}
