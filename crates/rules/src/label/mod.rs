//! Security labels: SELinux's part in a decision, after the kernel's own checks (security/selinux/hooks.c).
//!
//! The hooks, one method each, are the walk's (`walk/hooks.rs`, `walk/exec.rs`); `docs/rules.md` lists them. Here is what they
//! ask: the label of an inode, that of a new one, and whether one label may do something to another.

mod check;
mod new;
mod obstacle;
mod of_place;

pub(crate) use check::{At, Needed, on_any, on_inode, on_label, permission};
pub(crate) use new::{Meant, new_labels};
pub use obstacle::{Obstacle, obstacle};
pub(crate) use of_place::{keeps_labels, label_of, of_filesystem, possible};
