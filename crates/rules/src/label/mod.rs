//! Security labels: SELinux's part in a decision, after the kernel's own checks (security/selinux/hooks.c).
//!
//! The hooks, one method each, are the walk's (`walk/hooks.rs`, `walk/exec.rs`); `docs/rules.md` lists them. Here is what they
//! ask: the label of an inode, that of a new one, and whether one label may do something to another.

mod check;
mod new;
mod of_place;

pub(crate) use check::{At, Needed, on_any, on_inode, on_label, permission};
pub(crate) use new::{Meant, new_labels};
pub(crate) use of_place::{label_of, of_filesystem, possible};
