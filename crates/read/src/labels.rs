//! Mount options that give labels (selinux_sb_show_options in security/selinux/hooks.c).

use mivask_core::labels::Labels;

const WHOLE: &str = "context=";
/// Those of which no more is followed than that they are there.
const PARTS: [&str; 3] = ["fscontext=", "defcontext=", "rootcontext="];

/// Whether a mount option is about labels.
pub(crate) fn is_about_labels(option: &str) -> bool {
    option == "seclabel" || option.starts_with(WHOLE) || is_part(option)
}

/// Whether it is one of which what it does to labels is not followed.
pub(crate) fn is_part(option: &str) -> bool {
    PARTS.iter().any(|part| option.starts_with(part))
}

/// What mount options say of the labels of a file system.
pub(crate) fn of_options<'o>(options: impl IntoIterator<Item = &'o String>) -> Labels {
    let mut labels = Labels::default();
    for option in options {
        if let Some(label) = option.strip_prefix(WHOLE) {
            // A level with a comma stands in quotes, and whoever split the options may have cut it.
            let bare = label.strip_prefix('"').map_or(Some(label), |rest| rest.strip_suffix('"'));
            return bare.map_or(Labels::Open, |label| Labels::Mounted(label.into()));
        }
        if is_part(option) {
            labels = Labels::Open;
        }
    }
    labels
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn options_give_one_label_or_leave_it_open() {
        let of = |options: &[&str]| {
            of_options(&options.iter().map(|&option| option.to_owned()).collect::<Vec<_>>())
        };
        assert_eq!(of(&["ro", "seclabel"]), Labels::Stored(None));
        assert_eq!(of(&["context=u:r:t:s0", "ro"]), Labels::Mounted("u:r:t:s0".into()));
        assert_eq!(
            of(&["fscontext=u:r:t:s0", "context=\"u:r:t:s0:c1,c2\""]),
            Labels::Mounted("u:r:t:s0:c1,c2".into())
        );
        assert_eq!(of(&["context=\"u:r:t:s0:c1", "c2\""]), Labels::Open);
        assert_eq!(of(&["rootcontext=u:r:t:s0"]), Labels::Open);
    }
}
