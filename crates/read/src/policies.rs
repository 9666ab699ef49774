//! What SELinux and AppArmor do on a host: a policy in a file, or what the kernel of this machine shows of both.

use std::io::ErrorKind;
use std::path::Path;
use std::sync::Arc;

use mivask_core::fact::Provenance;
use mivask_core::scene::{Selinux, SelinuxMode};
use mivask_label::Policy;

use crate::files::FileReader;

/// More than any policy has, in bytes: those of distributions have three to ten megabytes.
const MOST_BYTES: usize = 64 << 20;

/// The folder in which the kernel shows both.
pub const KERNEL: &str = "/sys";

const COPY: &str = "copy /sys/fs/selinux/policy of the host, or /etc/selinux/*/policy/policy.*";

/// Why nothing can be told.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("{message}")]
pub struct PolicyProblem {
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub help: Option<&'static str>,
}

/// The binary policy in the file at `path`.
///
/// # Errors
/// It cannot be read, or is none.
pub fn policy(files: &dyn FileReader, path: &Path) -> Result<Policy, PolicyProblem> {
    let shown = path.display();
    let bytes = files.head(path, MOST_BYTES + 1).map_err(|error| PolicyProblem {
        message: format!("{shown} cannot be read: {error}"),
        help: (error.kind() == ErrorKind::PermissionDenied)
            .then_some("only root reads the policy in force: run this as root, or give a copy"),
    })?;
    if bytes.len() > MOST_BYTES {
        let message = format!("{shown} has more than {MOST_BYTES} bytes, which no policy has");
        return Err(PolicyProblem { message, help: Some(COPY) });
    }
    Policy::read(&bytes)
        .map_err(|error| PolicyProblem { message: format!("{shown}: {error}"), help: Some(COPY) })
}

/// What the kernel whose `/sys` is at `kernel` shows of SELinux (selinuxfs): `enforce`, and the policy in force, whose booleans are as they
/// are set.
///
/// # Errors
/// It is there, and cannot be read.
pub fn selinux_here(
    files: &dyn FileReader,
    kernel: &Path,
    from: Provenance,
) -> Result<Selinux, PolicyProblem> {
    let shown = kernel.join("fs/selinux");
    let enforce = match files.head(&shown.join("enforce"), 16) {
        Ok(bytes) => bytes.trim_ascii() == b"1",
        Err(error) if error.kind() == ErrorKind::NotFound => {
            return Ok(Selinux { mode: SelinuxMode::Disabled, policy: None, from });
        }
        Err(error) => {
            let message = format!("{} cannot be read: {error}", shown.join("enforce").display());
            return Err(PolicyProblem { message, help: None });
        }
    };
    let policy = policy(files, &shown.join("policy"))?;
    let mode = if enforce { SelinuxMode::Enforcing } else { SelinuxMode::Permissive };
    Ok(Selinux { mode, policy: Some(Arc::new(policy)), from })
}

/// Whether the kernel whose `/sys` is at `kernel` has AppArmor (its module's parameter `enabled`).
#[must_use]
pub fn apparmor_here(files: &dyn FileReader, kernel: &Path) -> bool {
    files
        .head(&kernel.join("module/apparmor/parameters/enabled"), 16)
        .is_ok_and(|bytes| bytes.trim_ascii() == b"Y")
}
