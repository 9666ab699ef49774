//! The same acts on the running kernel, in throwaway mount namespaces.
//!
//! A thread of its own makes a private mount namespace, rebuilds the actor's mounts on tmpfs, and for
//! each act starts another thread that takes on the actor's identity (credentials belong to threads
//! on Linux) and makes the real system call. Nothing outside the namespace and one temporary folder is
//! touched, and both vanish with the threads. Root is needed; [`unavailable`] says why it is not enough.
//!
//! This is for checking predictions, never for making them.

mod actor;
mod attempt;
mod build;
mod observe;
mod program;
mod xattr;

use std::io;
use std::path::PathBuf;
use std::sync::Arc;

use mivask_core::act::{Act, Verb};
use mivask_core::identity::Credentials;
use mivask_core::mount::MountTable;
use mivask_core::outcome::{Effect, Errno};
use mivask_core::stage::{Actor, Stage};
use rustix::thread::{CapabilitySet, UnshareFlags};

pub use program::PROGRAM;

/// What the kernel did.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Observed {
    /// The call succeeded, and left this.
    Allowed(Effect),
    /// The call failed with an errno the model knows.
    Denied(Errno),
    /// The call failed with any other errno.
    Other(i32),
}

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
    #[error("cannot be rebuilt: {0}")]
    Unsupported(String),
    /// A thread of the harness ended badly.
    #[error("the harness itself failed")]
    Harness,
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
        (CapabilitySet::CHOWN, "CHOWN"),
        (CapabilitySet::DAC_OVERRIDE, "DAC_OVERRIDE"),
        (CapabilitySet::MKNOD, "MKNOD"),
        (CapabilitySet::LINUX_IMMUTABLE, "LINUX_IMMUTABLE"),
    ];
    let Ok(held) = rustix::thread::capabilities(None) else {
        return Some("the process cannot read its own capabilities".to_owned());
    };
    if let Some((_, name)) = needed.iter().find(|(capability, _)| !held.effective.contains(*capability)) {
        return Some(format!("the capability {name} is missing: run the tests as root"));
    }
    let tried = std::thread::spawn(|| private_namespace().map_err(|error| error.to_string())).join();
    match tried {
        Ok(Ok(())) => None,
        Ok(Err(reason)) => Some(reason),
        Err(_) => Some("a thread of the harness failed".to_owned()),
    }
}

/// Does each act on the running kernel as `actor`, each against the untouched scene.
///
/// The actor must have one possible identity in the initial user namespace.
///
/// # Errors
/// The scene cannot be rebuilt here, or a step of rebuilding it fails.
pub fn attempt(stage: &Stage, actor: &Actor, acts: &[Act]) -> Result<Vec<Observed>, KernelError> {
    let [credentials] = actor.credentials.as_slice() else {
        return Err(KernelError::Unsupported("the identity is not settled".to_owned()));
    };
    let job = Job {
        stage: Arc::new(stage.clone()),
        mounts: actor.mounts.clone(),
        credentials: credentials.clone(),
        acts: acts.to_vec(),
    };
    std::thread::spawn(move || job.run()).join().map_err(|_| KernelError::Harness)?
}

struct Job {
    stage: Arc<Stage>,
    mounts: MountTable,
    credentials: Credentials,
    acts: Vec<Act>,
}

impl Job {
    fn run(&self) -> Result<Vec<Observed>, KernelError> {
        private_namespace()?;
        let scratch = tempfile::Builder::new()
            .prefix("mivask-")
            .tempdir()
            .doing(|| "making a temporary folder".to_owned())?;
        let mut all = Vec::new();
        let mut world = None;
        for act in &self.acts {
            let root = match &world {
                Some(root) => PathBuf::clone(root),
                None => build::world(&self.stage, &self.mounts, scratch.path())?,
            };
            let observed = self.one(act, root.clone())?;
            // Each act meets the untouched scene; one that failed or only looked has left it so.
            world = Some(root);
            if matches!(observed, Observed::Allowed(_)) && changes(act.verb) {
                build::take_down(scratch.path())?;
                world = None;
            }
            all.push(observed);
        }
        if world.is_some() {
            build::take_down(scratch.path())?;
        }
        Ok(all)
    }

    fn one(&self, act: &Act, root: PathBuf) -> Result<Observed, KernelError> {
        let (credentials, act_there, inside) = (self.credentials.clone(), act.clone(), root);
        let tried = std::thread::spawn(move || {
            actor::become_actor(&credentials, &inside)?;
            Ok(attempt::attempt(act_there.verb, &act_there.path))
        });
        let result: Result<_, KernelError> = tried.join().map_err(|_| KernelError::Harness)?;
        match result? {
            Ok(seen) => Ok(Observed::Allowed(seen)),
            Err(error) => {
                let raw = error.raw_os_error().unwrap_or(0);
                Ok(Errno::by_number(raw).map_or(Observed::Other(raw), Observed::Denied))
            }
        }
    }
}

/// Gives the calling thread a mount namespace and a root of its own; mounts made in it reach nobody.
fn private_namespace() -> Result<(), KernelError> {
    // SAFETY: this thread holds no reference into the file-system state that others share: it is
    // freshly spawned, and only works with absolute paths afterwards.
    #[expect(unsafe_code, reason = "unshare changes what paths mean for this thread")]
    let unshared = unsafe { rustix::thread::unshare_unsafe(UnshareFlags::FS | UnshareFlags::NEWNS) };
    unshared.doing(|| "unshare of the mount namespace".to_owned())?;
    let private = rustix::mount::MountPropagationFlags::PRIVATE | rustix::mount::MountPropagationFlags::REC;
    rustix::mount::mount_change("/", private).doing(|| "making every mount private".to_owned())
}

/// Whether a successful act leaves the scene another than it was.
const fn changes(verb: Verb) -> bool {
    match verb {
        Verb::Truncates
        | Verb::Overwrites
        | Verb::Extends
        | Verb::Creates(_)
        | Verb::MakesDirectory(_)
        | Verb::Deletes
        | Verb::RemovesDirectory => true,
        Verb::Inspects
        | Verb::InspectsLink
        | Verb::Reads
        | Verb::Writes
        | Verb::Appends
        | Verb::Updates
        | Verb::Runs
        | Verb::Lists
        | Verb::Enters => false,
    }
}
