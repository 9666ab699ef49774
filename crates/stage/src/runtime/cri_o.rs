//! CRI-O: not measured, so what its documentation says and containerd's rules for the rest.

use mivask_model::caps::{Capability as C, CapabilitySet};

use super::common::CAPABILITIES;
use super::containerd;
use super::profile::{CapabilityNames, CapabilityRules, MountPointRules, Profile};

/// The nine of its documented `default_capabilities`.
const NINE: CapabilitySet = CapabilitySet::EMPTY
    .with(C::Chown)
    .with(C::DacOverride)
    .with(C::Fsetid)
    .with(C::Fowner)
    .with(C::Setgid)
    .with(C::Setuid)
    .with(C::Setpcap)
    .with(C::NetBindService)
    .with(C::Kill);

pub(super) const PROFILE: Profile = Profile {
    capabilities: CapabilityRules { default: NINE, names: CapabilityNames::Either, ..CAPABILITIES },
    // Which of runc and crun it starts is up to whoever configures it.
    mount_points: MountPointRules { guards_proc: false, ..containerd::CURRENT.mount_points },
    caveat: Some(
        "CRI-O was not measured: its rules are taken to be containerd's, with the nine default capabilities of its documentation",
    ),
    ..containerd::CURRENT
};
