//! SELinux, decided by a host's own policy: the binary policy that `/sys/fs/selinux/policy` gives, and what the
//! kernel's security server makes of it.
//!
//! [`Policy::read`] takes the bytes of versions 30 to 33. [`Policy::context`] reads a label, [`Policy::decide`] says what
//! one context may do to another, [`Policy::refusals`] says why not, [`Policy::new_label`] which label something new
//! gets, and [`Policy::file_system`] how a file system is labelled whose inodes carry no label. [`Cache`] remembers
//! decisions, as the kernel's access vector cache does.
//!
//! The kernel's files are `security/selinux/ss/policydb.c` (the format) and `ss/services.c` (the decisions); functions
//! name theirs. The agreement test asks libsepol, the reference implementation, the same questions.

#![forbid(unsafe_code)]

mod bitmap;
mod bytes;
mod cache;
mod context;
mod decide;
mod mls;
mod new_label;
mod policy;

pub use bitmap::Bitmap;
pub use bytes::{PolicyError, Problem};
pub use cache::Cache;
pub use context::{Context, ContextError};
pub use decide::{Decision, Reason, Refusal};
pub use mls::{Level, Range};
pub use policy::constraint::{Constraint, Levels, Side, Term, Test};
pub use policy::labels::{Behavior, FileSystem, Source};
pub use policy::symbols::{Class, ClassId, RoleId, TypeId, UserId};
pub use policy::{Policy, Unknown};
