//! A process identity: in the ids it sees, and in those the kernel compares.

use std::sync::Arc;

use crate::caps::CapabilitySet;
use crate::held::Held;
use crate::ids::{InsideGid, InsideUid, KernelGid, KernelUid, UserNamespace};
use crate::mode::Mode;

/// The real ids of a process whose program is set-id: those that access(2) and the next execve look at.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct RealIds<Uid, Gid> {
    /// Real user id.
    pub uid: Held<Uid>,
    /// Real group id.
    pub gid: Held<Gid>,
}

/// One process identity, in inside ids.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Identity {
    /// User id it acts with: the effective one.
    pub uid: Held<InsideUid>,
    /// Primary group id it acts with.
    pub gid: Held<InsideGid>,
    /// The real ids, where they are not those it acts with.
    pub real: Option<RealIds<InsideUid, InsideGid>>,
    /// Supplementary groups as the kernel lists them in `/proc/PID/status`: sorted, and with
    /// the primary group repeated where the runtime repeats it.
    pub groups: Vec<Held<InsideGid>>,
    /// Supplementary groups that its user namespace does not map: it sees each as 65534, and they count all the same.
    pub unmapped_groups: Arc<[KernelGid]>,
    /// Capabilities in force.
    pub effective: CapabilitySet,
    /// Capabilities the process may put in force.
    pub permitted: CapabilitySet,
    /// Upper bound of what it can regain by execve.
    pub bounding: CapabilitySet,
    /// What a program whose file has them as inheritable keeps.
    pub inheritable: CapabilitySet,
    /// What any program keeps that is neither set-id nor has capabilities of its own.
    pub ambient: CapabilitySet,
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
    pub fsuid: Held<KernelUid>,
    /// Filesystem group id.
    pub fsgid: Held<KernelGid>,
    /// The real ids, where they are not those it acts with.
    pub real: Option<RealIds<KernelUid, KernelGid>>,
    /// Supplementary groups, sorted.
    pub groups: Arc<[KernelGid]>,
    /// Capabilities in force, in `namespace`.
    pub effective: CapabilitySet,
    /// Capabilities it may put in force; execve cannot add to them under no-new-privileges.
    pub permitted: CapabilitySet,
    /// Upper bound of what execve can give.
    pub bounding: CapabilitySet,
    /// What execve of a file with the same inheritable ones gives.
    pub inheritable: CapabilitySet,
    /// What execve leaves in force (`cap_bprm_creds_from_file`).
    pub ambient: CapabilitySet,
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
        // One without a number matches nothing that is given.
        for gid in identity.groups.iter().filter_map(|gid| gid.id()) {
            groups.push(namespace.to_kernel_gid(gid)?);
        }
        groups.extend_from_slice(&identity.unmapped_groups);
        let real = match identity.real {
            None => None,
            Some(real) => Some(RealIds {
                uid: real.uid.through(|uid| namespace.to_kernel_uid(uid))?,
                gid: real.gid.through(|gid| namespace.to_kernel_gid(gid))?,
            }),
        };
        groups.sort_unstable();
        groups.dedup();
        Some(Self {
            fsuid: identity.uid.through(|uid| namespace.to_kernel_uid(uid))?,
            fsgid: identity.gid.through(|gid| namespace.to_kernel_gid(gid))?,
            real,
            groups: groups.into(),
            effective: identity.effective,
            permitted: identity.permitted,
            bounding: identity.bounding,
            inheritable: identity.inheritable,
            ambient: identity.ambient,
            umask: identity.umask,
            no_new_privileges: identity.no_new_privileges,
            namespace: namespace.clone(),
        })
    }

    /// The user id as the process sees it; `None` where it is not mapped.
    #[must_use]
    pub fn inside_uid(&self) -> Option<Held<InsideUid>> {
        self.fsuid.through(|uid| self.namespace.to_inside_uid(uid))
    }

    /// The group id as the process sees it; `None` where it is not mapped.
    #[must_use]
    pub fn inside_gid(&self) -> Option<Held<InsideGid>> {
        self.fsgid.through(|gid| self.namespace.to_inside_gid(gid))
    }

    /// The real user id as the process sees it; `None` where it is not mapped.
    #[must_use]
    pub fn real_uid(&self) -> Option<Held<InsideUid>> {
        let uid = self.real.map_or(self.fsuid, |real| real.uid);
        uid.through(|uid| self.namespace.to_inside_uid(uid))
    }

    /// The real group id as the process sees it; `None` where it is not mapped.
    #[must_use]
    pub fn real_gid(&self) -> Option<Held<InsideGid>> {
        let gid = self.real.map_or(self.fsgid, |real| real.gid);
        gid.through(|gid| self.namespace.to_inside_gid(gid))
    }

    /// The same in inside ids, with `groups` as the kernel lists them; `None` where an id has no mapping.
    #[must_use]
    pub fn identity(&self, groups: &[Held<InsideGid>]) -> Option<Identity> {
        let uid = self.inside_uid()?;
        let gid = self.inside_gid()?;
        let real = RealIds { uid: self.real_uid()?, gid: self.real_gid()? };
        Some(Identity {
            uid,
            gid,
            real: (real != RealIds { uid, gid }).then_some(real),
            groups: groups.to_vec(),
            unmapped_groups: self
                .groups
                .iter()
                .copied()
                .filter(|gid| self.namespace.to_inside_gid(*gid).is_none())
                .collect(),
            effective: self.effective,
            permitted: self.permitted,
            bounding: self.bounding,
            inheritable: self.inheritable,
            ambient: self.ambient,
            umask: self.umask,
            no_new_privileges: self.no_new_privileges,
            namespace: self.namespace.clone(),
        })
    }
}
