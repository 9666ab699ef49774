//! The label of a new inode (`selinux_determine_inode_label`).

use mivask_label::Context;
use mivask_model::mode::FileKind;

use super::of_place::{keeps_labels, label_of};
use crate::confined::class_of;
use crate::view::{Place, View};

/// What a new inode is labelled.
pub(crate) enum NewLabel {
    /// So.
    Is(Context),
    /// The directory's label, and with it this one, is not given.
    Unknown,
    /// The policy does not let its parts go together: EACCES.
    Invalid,
}

/// The label of a new inode of `kind` in `directory`, of this name where it is known.
pub(crate) fn new_label(view: &View<'_>, directory: Place, kind: FileKind, name: Option<&[u8]>) -> NewLabel {
    let Some(confined) = view.confined else { return NewLabel::Unknown };
    let Some(above) = label_of(view, confined, directory) else { return NewLabel::Unknown };
    // With `context=` and where the policy labels by path, the directory's label is that of all below it.
    if !keeps_labels(view, confined, directory) {
        return NewLabel::Is(above);
    }
    let policy = confined.policy();
    let Some(class) = policy.class(class_of(kind)) else { return NewLabel::Is(above) };
    match policy.new_label(confined.process(), &above, class.id(), name) {
        Some(label) => NewLabel::Is(label),
        None => NewLabel::Invalid,
    }
}
