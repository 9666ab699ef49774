//! File capabilities as texts that lose nothing.

use mivask_model::caps::{CapabilitySet, FileCapabilities};

/// What comes before the id of the root user that they belong to.
const ROOT: &str = "root=";

/// What stands for those that name no capability.
const NONE: &str = "none";

/// A word for each set: `CHOWN=ep`, or two where permitted and inheritable ones differ, and the id of the root user where it is
/// not 0, with spaces between them.
pub(super) fn text(all: &FileCapabilities) -> String {
    let (permitted, inheritable) = (all.permitted, all.inheritable);
    let mut words = match (permitted.is_empty(), inheritable.is_empty()) {
        (true, true) => vec![if all.effective { format!("{NONE}=e") } else { NONE.to_owned() }],
        (false, false) if permitted != inheritable => {
            let first = FileCapabilities { inheritable: CapabilitySet::EMPTY, ..*all };
            let second = FileCapabilities { permitted: CapabilitySet::EMPTY, effective: false, ..*all };
            vec![first.to_string(), second.to_string()]
        }
        _ => vec![all.to_string()],
    };
    if all.root != 0 {
        words.push(format!("{ROOT}{}", all.root));
    }
    words.join(" ")
}

/// The capabilities of such a text; `None` where it is none.
pub(super) fn parsed(text: &str) -> Option<FileCapabilities> {
    let mut all = FileCapabilities {
        permitted: CapabilitySet::EMPTY,
        inheritable: CapabilitySet::EMPTY,
        effective: false,
        root: 0,
    };
    for word in text.split(' ') {
        if let Some(root) = word.strip_prefix(ROOT) {
            all.root = root.parse().ok()?;
        } else if let Some(flags) = word.strip_prefix(NONE) {
            all.effective |= flags == "=e";
        } else {
            let one: FileCapabilities = word.parse().ok()?;
            all.permitted = all.permitted.union(one.permitted);
            all.inheritable = all.inheritable.union(one.inheritable);
            all.effective |= one.effective;
        }
    }
    Some(all)
}

#[cfg(test)]
mod tests {
    use mivask_model::caps::Capability;

    use super::*;

    #[test]
    fn nothing_is_lost() {
        let set = |all: &[Capability]| all.iter().fold(CapabilitySet::EMPTY, |set, one| set.with(*one));
        let sets = [set(&[]), set(&[Capability::Chown]), set(&[Capability::Chown, Capability::Fowner])];
        for permitted in sets {
            for inheritable in sets {
                for (effective, root) in [(false, 0), (true, 0), (true, 100_000), (false, 7)] {
                    let all = FileCapabilities { permitted, inheritable, effective, root };
                    assert_eq!(parsed(&text(&all)), Some(all), "{}", text(&all));
                }
            }
        }
        assert_eq!(text(&parsed("CHOWN=ep").unwrap()), "CHOWN=ep");
        for wrong in ["", "x", "root=x", "CHOWN=ep  FOWNER=i"] {
            assert_eq!(parsed(wrong), None, "{wrong}");
        }
    }
}
