//! Mount options that give labels (selinux_sb_show_options in security/selinux/hooks.c).

use std::sync::Arc;

use mivask_core::labels::{Labels, StoredLabels};

const WHOLE: &str = "context=";
/// What has no attribute, on a file system with attributes: of such inodes no label is told, so that there is nothing to give it to.
const DEFAULT: &str = "defcontext=";
const FILE_SYSTEM: &str = "fscontext=";
const ROOT: &str = "rootcontext=";

/// Whether a mount option is about labels.
pub(crate) fn is_about_labels(option: &str) -> bool {
    option == "seclabel" || [WHOLE, DEFAULT, FILE_SYSTEM, ROOT].iter().any(|known| option.starts_with(known))
}

/// A label as an option has it. One with a comma stands in quotes, and whoever split the options may have cut it: `None`.
fn bare(label: &str) -> Option<Arc<str>> {
    label.strip_prefix('"').map_or(Some(label), |rest| rest.strip_suffix('"')).map(Into::into)
}

/// What mount options say of the labels of a file system.
pub(crate) fn of_options<'o>(options: impl IntoIterator<Item = &'o String>) -> Labels {
    let mut beside = StoredLabels::default();
    let mut cut = false;
    for option in options {
        if let Some(label) = option.strip_prefix(WHOLE) {
            return bare(label).map_or(Labels::Open, Labels::Mounted);
        }
        for (name, part) in [(FILE_SYSTEM, &mut beside.filesystem), (ROOT, &mut beside.root)] {
            if let Some(label) = option.strip_prefix(name) {
                *part = bare(label);
                cut |= part.is_none();
            }
        }
    }
    if cut { Labels::Open } else { Labels::Stored(beside) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn options_give_one_label_or_leave_it_open() {
        let of = |options: &[&str]| {
            of_options(&options.iter().map(|&option| option.to_owned()).collect::<Vec<_>>())
        };
        assert_eq!(of(&["ro", "seclabel"]), Labels::default());
        assert_eq!(of(&["context=u:r:t:s0", "ro"]), Labels::Mounted("u:r:t:s0".into()));
        assert_eq!(
            of(&["fscontext=u:r:t:s0", "context=\"u:r:t:s0:c1,c2\""]),
            Labels::Mounted("u:r:t:s0:c1,c2".into())
        );
        assert_eq!(of(&["context=\"u:r:t:s0:c1", "c2\""]), Labels::Open);
        let beside = |filesystem: Option<&str>, root: Option<&str>| {
            Labels::Stored(StoredLabels {
                rest: None,
                filesystem: filesystem.map(Into::into),
                root: root.map(Into::into),
            })
        };
        assert_eq!(of(&["rootcontext=u:r:t:s0"]), beside(None, Some("u:r:t:s0")));
        assert_eq!(
            of(&["fscontext=u:r:f:s0", "rootcontext=\"u:r:t:s0:c1,c2\"", "defcontext=u:r:d:s0"]),
            beside(Some("u:r:f:s0"), Some("u:r:t:s0:c1,c2"))
        );
        assert_eq!(of(&["rootcontext=\"u:r:t:s0:c1", "c2\""]), Labels::Open);
    }
}
