//! What about labels keeps a process from an inode, for those who look for a way past.

use mivask_label::Reason;
use mivask_model::mode::FileKind;

use super::of_place::label_of;
use crate::confined::class_of;
use crate::view::{Place, View};

/// What is in the way, beside types that nobody lets go together.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
#[non_exhaustive]
pub struct Obstacle {
    /// The inode's level, where that is not the process's, as a label writes it; `None` where it stands for one that an engine
    /// draws.
    pub level: Option<String>,
    /// Whether that level stands for one that an engine draws for another container.
    pub drawn: bool,
    /// Booleans of the policy that rules wait for, by which the process may do more to the inode, each as it would have to be.
    pub booleans: Vec<(String, bool)>,
}

/// Categories that a container's own level has at most.
const FEW: usize = 4;

/// What is in the way of the process at `place`; `None` where SELinux does not decide, or the label is not known.
#[must_use]
pub fn obstacle(view: &View<'_>, place: Place) -> Option<Obstacle> {
    let confined = view.confined?;
    let label = label_of(view, confined, place)?;
    let policy = confined.policy();
    let differs = policy.has_levels() && label.range != confined.process().range;
    let drawn = differs && confined.is_drawn(&label.range);
    // A level with many categories is more than what one container shares with another.
    let narrow =
        label.range.low == label.range.high && label.range.low.categories.iter().take(FEW + 1).count() <= FEW;
    let level = (differs && !drawn && narrow).then(|| policy.range_text(&label.range));
    let kind = view.inode(place).map_or(FileKind::Directory, |inode| inode.kind);
    let mut names: Vec<&str> = Vec::new();
    if let Some(class) = policy.class(class_of(kind)) {
        for refusal in policy.refusals(confined.process(), &label, class.id(), class.all()) {
            if let Reason::Off(waits) = refusal.reason {
                names.extend(waits);
            }
        }
    }
    names.sort_unstable();
    names.dedup();
    let other = |name: &str| {
        policy.booleans().find(|(known, _)| *known == name).map(|(_, on)| (name.to_owned(), !on))
    };
    let booleans = names.into_iter().filter_map(other).collect();
    Some(Obstacle { level, drawn, booleans })
}
