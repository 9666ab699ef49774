//! A process identity: in the ids it sees, and in those the kernel compares.

use std::sync::Arc;

use crate::caps::CapabilitySet;
use crate::ids::{InsideGid, InsideUid, KernelGid, KernelUid, UNSPECIFIED_ID, UserNamespace};
use crate::mode::Mode;

/// One process identity, in inside ids.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Identity {
    /// User id.
    pub uid: InsideUid,
    /// Primary group id.
    pub gid: InsideGid,
    /// Supplementary groups as the kernel lists them in `/proc/PID/status`: sorted, and with
    /// the primary group repeated where the runtime repeats it.
    pub groups: Vec<InsideGid>,
    /// Capabilities in force.
    pub effective: CapabilitySet,
    /// Capabilities the process may put in force.
    pub permitted: CapabilitySet,
    /// Upper bound of what it can regain by execve.
    pub bounding: CapabilitySet,
    /// Bits taken from the mode of what it creates, octal.
    pub umask: Mode,
    /// Whether execve can no longer add privileges.
    pub no_new_privileges: bool,
    /// How its ids relate to the kernel's.
    pub namespace: Arc<UserNamespace>,
}

/// What the kernel looks at when a process touches a file (`struct cred`).
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Credentials {
    /// Filesystem user id.
    pub fsuid: KernelUid,
    /// Filesystem group id.
    pub fsgid: KernelGid,
    /// Supplementary groups, sorted.
    pub groups: Vec<KernelGid>,
    /// Capabilities in force, in `namespace`.
    pub effective: CapabilitySet,
    /// Capabilities it may put in force; execve cannot add to them under no-new-privileges.
    pub permitted: CapabilitySet,
    /// Upper bound of what execve can give.
    pub bounding: CapabilitySet,
    /// Bits taken from the mode of what it creates, octal.
    pub umask: Mode,
    /// Whether execve can no longer add privileges.
    pub no_new_privileges: bool,
    /// The user namespace it lives in.
    pub namespace: Arc<UserNamespace>,
}

impl Credentials {
    /// The kernel's view of `identity`; `None` where its user or group has no mapping, so that
    /// no runtime could have started it.
    #[must_use]
    pub fn of(identity: &Identity) -> Option<Self> {
        let namespace = &identity.namespace;
        let kernel_gid = |gid: InsideGid| match gid.raw() {
            UNSPECIFIED_ID => Some(KernelGid::new(UNSPECIFIED_ID)),
            _ => namespace.to_kernel_gid(gid),
        };
        let mut groups = Vec::with_capacity(identity.groups.len());
        for gid in &identity.groups {
            groups.push(kernel_gid(*gid)?);
        }
        groups.sort_unstable();
        groups.dedup();
        Some(Self {
            fsuid: match identity.uid.raw() {
                UNSPECIFIED_ID => KernelUid::new(UNSPECIFIED_ID),
                _ => namespace.to_kernel_uid(identity.uid)?,
            },
            fsgid: kernel_gid(identity.gid)?,
            groups,
            effective: identity.effective,
            permitted: identity.permitted,
            bounding: identity.bounding,
            umask: identity.umask,
            no_new_privileges: identity.no_new_privileges,
            namespace: namespace.clone(),
        })
    }

    /// The user id as the process sees it.
    #[must_use]
    pub fn inside_uid(&self) -> Option<InsideUid> {
        match self.fsuid.raw() {
            UNSPECIFIED_ID => Some(InsideUid::new(UNSPECIFIED_ID)),
            _ => self.namespace.to_inside_uid(self.fsuid),
        }
    }

    /// The group id as the process sees it.
    #[must_use]
    pub fn inside_gid(&self) -> Option<InsideGid> {
        match self.fsgid.raw() {
            UNSPECIFIED_ID => Some(InsideGid::new(UNSPECIFIED_ID)),
            _ => self.namespace.to_inside_gid(self.fsgid),
        }
    }
}
