//! The label of a new inode (`selinux_determine_inode_label`).

use mivask_label::{Context, Range};
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
/// not known which container labelled that last, or what the host's policy says of levels; `None` where the directory's is not given. A label is `None` where the
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
    let mut all: Vec<_> = above.iter().map(new).collect();
    if confined.is_bounded() {
        // A policy says for each class whether a new file has the level of who makes it, or its directory's (`default_range`).
        let inherited = |(new, above): (&Option<Context>, &Context)| {
            new.as_ref().map(|new| Some(Context { range: Range::of(&above.range.low), ..new.clone() }))
        };
        let more: Vec<_> = all.iter().zip(&above).filter_map(inherited).collect();
        all.extend(more.into_iter().filter(|one| !all.contains(one)).collect::<Vec<_>>());
    }
    Some(all)
}
