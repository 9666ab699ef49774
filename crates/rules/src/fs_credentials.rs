//! Who acts, as far as one filesystem is concerned: the process itself, or what an NFS server makes of it.

use mivask_model::caps::{Capability, CapabilitySet};
use mivask_model::credentials::Credentials;
use mivask_model::held::Held;
use mivask_model::ids::{KernelGid, KernelUid, UserNamespace};
use mivask_model::personality::{Export, Nfs, Squash};

static INITIAL: UserNamespace = UserNamespace::initial();

/// What a server's root may do whoever it is on the client (`CAP_NFSD_SET` and `CAP_FS_SET`).
const SERVER_ROOT: CapabilitySet = CapabilitySet::from_bits(
    1 << Capability::Chown as u64
        | 1 << Capability::DacOverride as u64
        | 1 << Capability::DacReadSearch as u64
        | 1 << Capability::Fowner as u64
        | 1 << Capability::Fsetid as u64
        | 1 << Capability::Mknod as u64
        | 1 << Capability::SysResource as u64,
);

/// The ids, groups and capabilities that count on one filesystem.
#[derive(Clone, Copy, Debug)]
pub(crate) struct FsCredentials<'a> {
    /// Filesystem user id.
    pub uid: Held<KernelUid>,
    /// Filesystem group id.
    pub gid: Held<KernelGid>,
    groups: &'a [KernelGid],
    /// What group 0 among the supplementary ones became.
    root_group: KernelGid,
    effective: CapabilitySet,
    namespace: &'a UserNamespace,
}

impl<'a> FsCredentials<'a> {
    /// The process itself.
    pub(crate) fn process(who: &'a Credentials) -> Self {
        Self {
            uid: who.fsuid,
            gid: who.fsgid,
            groups: &who.groups,
            root_group: KernelGid::new(0),
            effective: who.effective,
            namespace: &who.namespace,
        }
    }

    /// The same without what a policy keeps from it.
    pub(crate) const fn without(self, denied: CapabilitySet) -> Self {
        Self { effective: self.effective.minus(denied), ..self }
    }

    /// What a server that squashes as `squash` says makes of the process (`nfsd_setuser`).
    pub(crate) fn on_server(who: &'a Credentials, squash: Squash, export: &Export) -> Self {
        let anonymous_uid = Held::Id(KernelUid::new(export.anonymous.uid.raw()));
        let anonymous_group = KernelGid::new(export.anonymous.gid.raw());
        let anonymous_gid = Held::Id(anonymous_group);
        let sent = if export.manages_groups { 0 } else { who.groups.len().min(Nfs::MOST_GROUPS) };
        let root_uid = Held::Id(KernelUid::new(0));
        let root_gid = Held::Id(KernelGid::new(0));
        let plain = Self { groups: &who.groups[..sent], namespace: &INITIAL, ..Self::process(who) };
        let mut acting = match squash {
            Squash::Nobody => plain,
            Squash::All => Self { uid: anonymous_uid, gid: anonymous_gid, groups: &[], ..plain },
            Squash::Root => Self {
                uid: if plain.uid == root_uid { anonymous_uid } else { plain.uid },
                gid: if plain.gid == root_gid { anonymous_gid } else { plain.gid },
                root_group: anonymous_group,
                ..plain
            },
        };
        acting.effective = if acting.uid == root_uid { SERVER_ROOT } else { CapabilitySet::EMPTY };
        acting
    }

    /// Says of a process that a server made somebody else of it; nothing where it did not.
    pub(crate) fn squashed_from(&self, who: &Credentials) -> String {
        match (self.uid.id(), self.gid.id()) {
            (Some(uid), Some(gid)) if self.uid != who.fsuid => {
                format!(" (the server squashes it to {uid}:{gid})")
            }
            (_, Some(gid)) if self.gid != who.fsgid => format!(" (the server squashes its group to {gid})"),
            (_, _) => String::new(),
        }
    }

    /// Whether it is in `gid` (`vfsgid_in_group_p`).
    pub(crate) fn in_group(&self, gid: KernelGid) -> bool {
        let root = KernelGid::new(0);
        if self.gid.is(gid) {
            return true;
        }
        if self.root_group == root {
            return self.groups.binary_search(&gid).is_ok();
        }
        let has_root = self.groups.first() == Some(&root);
        (gid == self.root_group && has_root) || (gid != root && self.groups.binary_search(&gid).is_ok())
    }

    /// Whether `capability` counts for an inode of this owner and group: it does only where both
    /// are mapped in the process's user namespace (`capable_wrt_inode_uidgid`).
    pub(crate) fn capable_for(
        &self,
        capability: Capability,
        uid: Option<KernelUid>,
        gid: Option<KernelGid>,
    ) -> bool {
        self.effective.has(capability) && self.maps_uid(uid) && self.maps_gid(gid)
    }

    /// Whether it owns an inode of this owner or counts as if: FOWNER needs only the owner mapped
    /// (`inode_owner_or_capable`).
    pub(crate) fn owns(&self, uid: Option<KernelUid>) -> bool {
        uid.is_some_and(|uid| self.uid.is(uid))
            || self.effective.has(Capability::Fowner) && self.maps_uid(uid)
    }

    /// Whether `capability` counts in the initial user namespace, where the superblocks live (`capable`).
    pub(crate) fn capable(&self, capability: Capability) -> bool {
        self.effective.has(capability) && self.namespace.is_initial()
    }

    /// Whether it has `capability` in force, whatever for.
    pub(crate) const fn has(&self, capability: Capability) -> bool {
        self.effective.has(capability)
    }

    /// Whether every id is mapped in its user namespace, so that capabilities count for any owner.
    pub(crate) const fn maps_all(&self) -> bool {
        self.namespace.is_initial()
    }

    fn maps_uid(&self, uid: Option<KernelUid>) -> bool {
        uid.is_some_and(|uid| self.namespace.to_inside_uid(uid).is_some())
    }

    fn maps_gid(&self, gid: Option<KernelGid>) -> bool {
        gid.is_some_and(|gid| self.namespace.to_inside_gid(gid).is_some())
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use mivask_model::mode::Mode;

    fn process(uid: u32, gid: u32, groups: std::ops::Range<u32>) -> Credentials {
        Credentials {
            real: None,
            fsuid: Held::Id(KernelUid::new(uid)),
            fsgid: Held::Id(KernelGid::new(gid)),
            groups: groups.map(KernelGid::new).collect(),
            effective: CapabilitySet::ALL,
            permitted: CapabilitySet::ALL,
            bounding: CapabilitySet::ALL,
            inheritable: CapabilitySet::EMPTY,
            ambient: CapabilitySet::EMPTY,
            umask: Mode::new(0o022),
            no_new_privileges: false,
            namespace: Arc::new(UserNamespace::initial()),
        }
    }

    #[test]
    fn root_becomes_anonymous_with_its_groups() {
        let root = process(0, 0, 0..3);
        let acting = FsCredentials::on_server(&root, Squash::Root, &Export::default());
        assert!(acting.uid.is(KernelUid::new(65534)) && acting.gid.is(KernelGid::new(65534)));
        assert!(!acting.in_group(KernelGid::new(0)) && acting.in_group(KernelGid::new(2)));
        assert!(!acting.capable(Capability::DacOverride));
    }

    #[test]
    fn what_the_server_makes_of_somebody_is_told() {
        let export = Export::default();
        for (uid, gid, squash, told) in [
            (0, 0, Squash::Root, " (the server squashes it to 65534:65534)"),
            (7101, 0, Squash::Root, " (the server squashes its group to 65534)"),
            (7101, 7200, Squash::Root, ""),
            (7101, 7200, Squash::All, " (the server squashes it to 65534:65534)"),
            (0, 0, Squash::Nobody, ""),
        ] {
            let who = process(uid, gid, 0..0);
            let acting = FsCredentials::on_server(&who, squash, &export);
            assert_eq!(acting.squashed_from(&who), told, "{uid}:{gid}");
        }
    }

    #[test]
    fn only_an_unsquashed_root_has_capabilities_there() {
        let export = Export::default();
        let root = process(0, 0, 0..1);
        assert!(FsCredentials::on_server(&root, Squash::Nobody, &export).capable(Capability::DacOverride));
        let user = process(7101, 7200, 0..0);
        assert!(!FsCredentials::on_server(&user, Squash::Nobody, &export).capable(Capability::DacOverride));
    }

    #[test]
    fn the_seventeenth_group_does_not_arrive() {
        let user = process(7101, 7200, 100..120);
        let acting = FsCredentials::on_server(&user, Squash::Root, &Export::default());
        assert!(acting.in_group(KernelGid::new(115)) && !acting.in_group(KernelGid::new(116)));
        assert!(acting.in_group(KernelGid::new(7200)), "the primary group is sent by itself");
    }

    #[test]
    fn everybody_may_be_anonymous() {
        let user = process(7101, 7200, 0..3);
        let export = Export { anonymous: mivask_model::ids::DiskOwner::new(500, 600), ..Export::default() };
        let acting = FsCredentials::on_server(&user, Squash::All, &export);
        assert!(acting.uid.is(KernelUid::new(500)) && acting.gid.is(KernelGid::new(600)));
        assert!(!acting.in_group(KernelGid::new(7200)) && acting.in_group(KernelGid::new(600)));
    }
}
