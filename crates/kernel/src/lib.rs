//! The same acts on the running kernel, in throwaway mount namespaces.
//!
//! A [`Bench`] owns a thread with a private mount namespace, in which a tmpfs of its own covers the folder
//! for temporary files. There it rebuilds an actor's mounts on real file systems, and a child process takes on
//! the actor's identity (user namespace, ids, groups, capabilities, umask) and makes the real system calls.
//! Nothing outside the namespace is touched, and everything vanishes with it, also when the process is killed.
//! Root is needed; [`unavailable`] says why it is not enough.
//!
//! This is for checking predictions, never for making them.

mod actor;
mod attempt;
mod bench;
mod child;
mod fitting;
mod ground;
mod id_map;
mod layers;
mod mounts;
mod namespace;
mod observe;
mod process;
mod program;
mod report;
mod shown;
mod store;
mod tool;
mod unprivileged;
mod world;

use std::io;

use rustix::thread::CapabilitySet;

pub use bench::Bench;
pub use fitting::Fitted;
pub use ground::{Choice, Filesystem, UnknownFilesystem};
pub use program::PROGRAM;
pub use shown::Shown;
pub use tool::has_tool;
pub use unprivileged::{enter_user_namespace, fitted};
pub use world::cannot_build;

/// Why an act could not be tried.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum KernelError {
    /// A step of the preparation failed.
    #[error("{step}: {error}")]
    Step {
        /// What was being done.
        step: String,
        /// What the kernel said.
        error: io::Error,
    },
    /// The scene holds something that cannot be rebuilt here.
    #[error("cannot be rebuilt here: {0}")]
    Unsupported(String),
    /// Nothing can be tried on this machine.
    #[error("{0}")]
    Unavailable(String),
    /// A thread or child of the harness ended badly.
    #[error("the harness itself failed: {0}")]
    Harness(String),
}

/// Names what was being done when an error came.
trait Doing<T> {
    fn doing(self, step: impl FnOnce() -> String) -> Result<T, KernelError>;
}

impl<T, E: Into<io::Error>> Doing<T> for Result<T, E> {
    fn doing(self, step: impl FnOnce() -> String) -> Result<T, KernelError> {
        self.map_err(|error| KernelError::Step { step: step(), error: error.into() })
    }
}

/// Why acts cannot be tried here, or `None` where they can.
#[must_use]
pub fn unavailable() -> Option<String> {
    let needed = [
        (CapabilitySet::SYS_ADMIN, "SYS_ADMIN"),
        (CapabilitySet::SYS_CHROOT, "SYS_CHROOT"),
        (CapabilitySet::SETUID, "SETUID"),
        (CapabilitySet::SETGID, "SETGID"),
        (CapabilitySet::SETPCAP, "SETPCAP"),
        (CapabilitySet::SETFCAP, "SETFCAP"),
        (CapabilitySet::CHOWN, "CHOWN"),
        (CapabilitySet::DAC_OVERRIDE, "DAC_OVERRIDE"),
        (CapabilitySet::FOWNER, "FOWNER"),
        (CapabilitySet::MKNOD, "MKNOD"),
        (CapabilitySet::LINUX_IMMUTABLE, "LINUX_IMMUTABLE"),
    ];
    let Ok(held) = rustix::thread::capabilities(None) else {
        return Some("the process cannot read its own capabilities".to_owned());
    };
    if let Some((_, name)) = needed.iter().find(|(capability, _)| !held.effective.contains(*capability)) {
        return Some(format!("the capability {name} is missing: run it as root"));
    }
    let tried = std::thread::spawn(|| namespace::enter().map_err(|error| error.to_string())).join();
    match tried {
        Ok(Ok(())) => None,
        Ok(Err(reason)) => Some(reason),
        Err(_) => Some("a thread of the harness failed".to_owned()),
    }
}

/// The capabilities that this process may put into force: all that the machine has, for root.
pub(crate) fn held() -> mivask_model::caps::CapabilitySet {
    let held = rustix::thread::capabilities(None).map_or(0, |sets| sets.permitted.bits());
    mivask_model::caps::CapabilitySet::from_bits(held)
}

/// This machine's kernel settings that decide about files.
#[must_use]
pub fn settings() -> mivask_model::storage::Settings {
    let setting = |name: &str| {
        std::fs::read_to_string(format!("/proc/sys/fs/{name}")).ok().and_then(|text| text.trim().parse().ok())
    };
    mivask_model::storage::Settings {
        protected_symlinks: setting("protected_symlinks"),
        protected_regular: setting("protected_regular"),
        protected_fifos: setting("protected_fifos"),
        protected_hardlinks: setting("protected_hardlinks"),
    }
}
