//! An identity in the ids the kernel compares.

use std::sync::Arc;

use super::Identity;
use crate::caps::{Capability, CapabilitySet};
use crate::ids::{InsideGid, InsideUid, KernelGid, KernelUid, UserNamespace};
use crate::mode::Mode;

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
        let mut groups = Vec::with_capacity(identity.groups.len());
        for gid in &identity.groups {
            groups.push(namespace.to_kernel_gid(*gid)?);
        }
        groups.sort_unstable();
        groups.dedup();
        Some(Self {
            fsuid: namespace.to_kernel_uid(identity.uid)?,
            fsgid: namespace.to_kernel_gid(identity.gid)?,
            groups,
            effective: identity.effective,
            umask: identity.umask,
            no_new_privileges: identity.no_new_privileges,
            namespace: namespace.clone(),
        })
    }

    /// Whether the process is in `gid` (`vfsgid_in_group_p`).
    #[must_use]
    pub fn in_group(&self, gid: KernelGid) -> bool {
        self.fsgid == gid || self.groups.binary_search(&gid).is_ok()
    }

    /// Whether `capability` counts for an inode of this owner and group: it does only where both
    /// are mapped in the process's user namespace (`capable_wrt_inode_uidgid`).
    #[must_use]
    pub fn capable_for(
        &self,
        capability: Capability,
        uid: Option<KernelUid>,
        gid: Option<KernelGid>,
    ) -> bool {
        self.effective.has(capability)
            && uid.is_some_and(|uid| self.namespace.to_inside_uid(uid).is_some())
            && gid.is_some_and(|gid| self.namespace.to_inside_gid(gid).is_some())
    }

    /// Whether `capability` counts for an inode of this owner: FOWNER needs only the owner mapped
    /// (`inode_owner_or_capable`).
    #[must_use]
    pub fn capable_for_owner(&self, capability: Capability, uid: Option<KernelUid>) -> bool {
        self.effective.has(capability) && uid.is_some_and(|uid| self.namespace.to_inside_uid(uid).is_some())
    }

    /// The user id as the process sees it.
    #[must_use]
    pub fn inside_uid(&self) -> Option<InsideUid> {
        self.namespace.to_inside_uid(self.fsuid)
    }

    /// The group id as the process sees it.
    #[must_use]
    pub fn inside_gid(&self) -> Option<InsideGid> {
        self.namespace.to_inside_gid(self.fsgid)
    }
}
