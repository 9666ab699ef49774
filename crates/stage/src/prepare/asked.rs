//! A volume with a file system of its own, as it is asked for.

use std::collections::BTreeSet;

use mivask_model::fact::Provenance;
use mivask_model::labels::Labels;
use mivask_model::mount::MountFlags;
use mivask_model::mount_kind::MountKind;
use mivask_model::personality::Personality;

use crate::cluster::Backing;

/// What a description asks for, and what the cluster's objects say of it.
#[derive(Clone, Debug)]
pub(super) struct Asked<'a> {
    /// Under which name the scene may tell of it.
    pub key: &'a str,
    /// What it is called, such as `claim readings`.
    pub name: &'a str,
    /// The kind of volume.
    pub kind: MountKind,
    /// What it is made of.
    pub backing: Option<&'a Backing>,
    /// `accessModes`
    pub access_modes: Option<&'a BTreeSet<String>>,
    /// Flags of its mount options.
    pub flags: MountFlags,
    /// What its mount options say of labels.
    pub labels: Option<&'a Labels>,
    /// What its mount options make of the file system.
    pub personality: Option<Personality>,
    /// Whether the reference to it says `readOnly`.
    pub read_only: bool,
    /// Whether it is a block device.
    pub block: bool,
    /// Whether no kubelet looks after it, so that there is no filesystem-group step.
    pub plain: bool,
    /// Whether it is made with what asks for it.
    pub new: bool,
    /// Where it was asked for.
    pub from: &'a Provenance,
}

impl<'a> Asked<'a> {
    /// A volume of which nothing is given but its name.
    pub(super) fn new(key: &'a str, name: &'a str, kind: MountKind, from: &'a Provenance) -> Self {
        Self {
            key,
            name,
            kind,
            backing: None,
            access_modes: None,
            flags: MountFlags::NONE,
            labels: None,
            personality: None,
            read_only: false,
            block: false,
            plain: false,
            new: false,
            from,
        }
    }
}
