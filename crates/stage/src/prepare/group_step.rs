//! Whether the filesystem-group step reaches a volume (docs/facts/kubelet.md section 7).

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::fact::Unknown;
use mivask_model::usual::{Usual, UsualRule};

use crate::cluster::{Backing, Cluster, GroupPolicy};

/// Whether the step reaches a volume, and why.
#[derive(Clone, Debug)]
pub(super) enum Reach {
    /// It does.
    Yes,
    /// It does not.
    No(Arc<str>),
    /// It depends on a missing fact.
    Open(Unknown),
}

impl Reach {
    fn no(why: &str) -> Self {
        Self::No(Arc::from(why))
    }
}

/// What there is to know about a volume for the question.
#[derive(Clone, Copy, Debug)]
pub(super) struct Case<'a> {
    /// What it is called, such as `claim readings`.
    pub name: &'a str,
    /// What it is made of, where that is given.
    pub backing: Option<&'a Backing>,
    /// Its access modes, where they are given.
    pub access_modes: Option<&'a BTreeSet<String>>,
    /// Whether the reference to it says `readOnly`.
    pub read_only: bool,
    /// Whether it is a block device without a file system.
    pub block: bool,
    /// Whether it is made with what asks for it.
    pub new: bool,
}

/// Whether the step reaches the volume of `case`.
pub(super) fn reach(case: &Case<'_>, cluster: &Cluster) -> Reach {
    let settle = "say `group-ownership: apply` or `skip` for the volume in a scene file";
    let says = || format!("the kubelet gives {} to the filesystem group", case.name);
    let usual = (case.new && is_for_one_node(case.access_modes))
        .then(|| Usual::shared(UsualRule::GroupApplied, &says()));
    let unknown = || {
        let fact = format!("whether the filesystem group reaches {}", case.name);
        Unknown::new(&fact, settle).usually(usual.clone())
    };
    if case.block {
        return Reach::no("a block device keeps its own owner and mode");
    }
    let Some(backing) = case.backing else {
        return if case.read_only { Reach::no(READ_ONLY) } else { Reach::Open(unknown()) };
    };
    match backing {
        Backing::HostPath { .. } => Reach::no("a hostPath volume never gets the filesystem group"),
        Backing::Nfs => Reach::no("an NFS volume never gets the filesystem group"),
        Backing::Remote(plugin) => {
            Reach::No(format!("a {plugin} volume never gets the filesystem group").into())
        }
        Backing::AzureFile => Reach::no(
            "an azureFile volume gets the filesystem group as its mount option gid=, without a walk",
        ),
        _ if case.read_only => Reach::no(READ_ONLY),
        Backing::Local { .. } | Backing::Disk { migrated: false, .. } => Reach::Yes,
        Backing::Disk { migrated: true, .. } if read_write_once(case.access_modes) => Reach::Yes,
        Backing::Disk { .. } => Reach::Open(unknown()),
        Backing::Csi { driver, fs_type, inline } => {
            let given = cluster.drivers.get(driver).map(|driver| driver.policy.value);
            let once = *inline || read_write_once(case.access_modes);
            let by_type = fs_type.is_some() && once;
            match given {
                Some(GroupPolicy::File) => Reach::Yes,
                Some(GroupPolicy::None) => Reach::No(format!("fsGroupPolicy of {driver} is None").into()),
                Some(GroupPolicy::ReadWriteOnceWithFsType) if by_type => Reach::Yes,
                Some(GroupPolicy::ReadWriteOnceWithFsType) => {
                    let lack = if fs_type.is_none() {
                        "no fsType is set"
                    } else {
                        "the volume is not ReadWriteOnce"
                    };
                    Reach::No(
                        format!("fsGroupPolicy of {driver} is ReadWriteOnceWithFSType, and {lack}").into(),
                    )
                }
                None => {
                    let fact = format!("the fsGroupPolicy of CSI driver {driver}, so {}", unknown().fact);
                    let settle = format!("give the CSIDriver object `{driver}`, or {settle}");
                    Reach::Open(Unknown::new(&fact, &settle).usually(unknown().usual))
                }
            }
        }
    }
}

/// Why a read-only reference is left alone.
pub(super) const READ_ONLY: &str = "it is asked for read-only, so the filesystem group is not applied";

/// ReadWriteOncePod is believed to count as ReadWriteOnce.
fn read_write_once(modes: Option<&BTreeSet<String>>) -> bool {
    modes.is_some_and(|modes| modes.contains("ReadWriteOnce") || modes.contains("ReadWriteOncePod"))
}

/// Whether only pods of one node use it at a time, as far as it is told: what many nodes share is a file server's.
pub(super) fn is_for_one_node(modes: Option<&BTreeSet<String>>) -> bool {
    modes.is_some_and(|modes| !modes.is_empty() && modes.iter().all(|mode| mode.starts_with("ReadWriteOnce")))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cluster::CsiDriver;
    use crate::scene::HostPathCheck;
    use mivask_model::fact::{Fact, Provenance};

    fn answer(
        backing: &Backing,
        modes: &[&str],
        read_only: bool,
        policy: Option<GroupPolicy>,
    ) -> &'static str {
        let mut cluster = Cluster::default();
        if let Some(policy) = policy {
            let driver =
                CsiDriver { policy: Fact::new(policy, Provenance::rule("test")), mounts_with_label: false };
            cluster.drivers.insert("disks.example".to_owned(), driver);
        }
        let modes: BTreeSet<String> = modes.iter().map(|mode| (*mode).to_owned()).collect();
        let case = Case {
            name: "x",
            backing: Some(backing),
            access_modes: Some(&modes),
            read_only,
            block: false,
            new: false,
        };
        match reach(&case, &cluster) {
            Reach::Yes => "yes",
            Reach::No(_) => "no",
            Reach::Open(_) => "open",
        }
    }

    fn csi(fs_type: Option<&str>, inline: bool) -> Backing {
        Backing::Csi { driver: "disks.example".to_owned(), fs_type: fs_type.map(str::to_owned), inline }
    }

    const RWO: &[&str] = &["ReadWriteOnce"];
    const RWX: &[&str] = &["ReadWriteMany"];

    macro_rules! rows {
        ($($name:ident: $backing:expr, $modes:expr, $read_only:literal, $policy:expr => $answer:literal;)+) => {$(
            #[test]
            fn $name() {
                assert_eq!(answer(&$backing, $modes, $read_only, $policy), $answer);
            }
        )+};
    }

    use GroupPolicy::{File, None as Never, ReadWriteOnceWithFsType as Typed};

    // The rows of docs/facts/kubelet.md section 7.
    rows! {
        a_host_path_never: Backing::HostPath { path: b"/x".to_vec(), check: HostPathCheck::None }, RWO, false, None => "no";
        a_local_volume: Backing::Local { path: b"/x".to_vec() }, RWO, false, None => "yes";
        a_local_volume_whatever_its_access: Backing::Local { path: b"/x".to_vec() }, RWX, false, None => "yes";
        a_local_volume_by_a_read_only_claim: Backing::Local { path: b"/x".to_vec() }, RWO, true, None => "no";
        csi_file_always: csi(None, false), RWX, false, Some(File) => "yes";
        csi_none_never: csi(Some("ext4"), false), RWO, false, Some(Never) => "no";
        csi_typed: csi(Some("ext4"), false), RWO, false, Some(Typed) => "yes";
        csi_typed_without_a_type: csi(None, false), RWO, false, Some(Typed) => "no";
        csi_typed_and_shared: csi(Some("ext4"), false), RWX, false, Some(Typed) => "no";
        csi_read_only_claim: csi(Some("ext4"), false), RWO, true, Some(File) => "no";
        csi_without_its_driver: csi(Some("ext4"), false), RWO, false, None => "open";
        csi_inline_file: csi(None, true), &[], false, Some(File) => "yes";
        csi_inline_none: csi(Some("ext4"), true), &[], false, Some(Never) => "no";
        csi_inline_without_a_type: csi(None, true), &[], false, Some(Typed) => "no";
        csi_inline_read_only: csi(Some("ext4"), true), &[], true, Some(File) => "no";
        nfs_never: Backing::Nfs, RWX, false, None => "no";
        cephfs_never: Backing::Remote("cephfs".to_owned()), RWX, false, None => "no";
        azure_file_by_option: Backing::AzureFile, RWX, false, None => "no";
        iscsi: Backing::Disk { plugin: "iscsi".to_owned(), fs_type: None, migrated: false }, RWO, false, None => "yes";
        a_migrated_disk: Backing::Disk { plugin: "cinder".to_owned(), fs_type: None, migrated: true }, RWO, false, None => "yes";
    }
}
