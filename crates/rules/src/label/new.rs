//! The label of a new inode (`selinux_determine_inode_label`).

use mivask_label::Context;
use mivask_model::labels::Labels;
use mivask_model::mode::FileKind;

use super::of_place::{keeps_labels, label_of, possible};
use crate::confined::class_of;
use crate::view::{Place, View};

/// Which of the labels of a new inode is meant.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Meant {
    /// The one by which making it is judged: a transition, whatever the file system keeps, but with `context=`.
    Judged,
    /// The one that it has then.
    Had,
}

/// The labels that a new inode of `kind` in `directory` may have, of this name where it is known: one, or several where it is
/// not known which container labelled that last; `None` where the directory's is not given. A label is `None` where the
/// policy does not let its parts go together: EACCES.
pub(crate) fn new_labels(
    view: &View<'_>,
    directory: Place,
    (kind, name): (FileKind, Option<&[u8]>),
    meant: Meant,
) -> Option<Vec<Option<Context>>> {
    let confined = view.confined?;
    let above = match label_of(view, confined, directory) {
        Some(above) => vec![above],
        None => possible(view, confined, directory)?,
    };
    let mounted = matches!(view.source(directory).facts.labels, Labels::Mounted(_) | Labels::Container);
    let policy = confined.policy();
    let class = policy.class(class_of(kind));
    let kept = mounted || meant == Meant::Had && !keeps_labels(view, confined, directory);
    let Some(class) = class.filter(|_| !kept) else { return Some(above.into_iter().map(Some).collect()) };
    let new = |above: &Context| policy.new_label(confined.process(), above, class.id(), name);
    Some(above.iter().map(new).collect())
}
