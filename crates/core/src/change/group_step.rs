//! What is different about the filesystem group.

use std::fmt;

use mivask_model::act::{ActError, ActErrorKind, Rest, id};
use mivask_model::fact::{Fact, Provenance};
use mivask_stage::identity::PodSecurity;
use mivask_stage::scene::{Container, Who};

/// `filesystem-group ...`: the group that volumes are given to, or when they are (`fsGroup`, `fsGroupChangePolicy`).
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum GroupStep {
    /// This group.
    Group(u32),
    /// None: volumes stay as they are, and the processes lose the group.
    Off,
    /// At every start (`Always`, what the API fills in).
    Always,
    /// Only where the root of the volume is not that group's already (`OnRootMismatch`).
    OnRootMismatch,
}

impl GroupStep {
    /// What stands behind `filesystem-group`.
    pub(super) fn read(rest: &mut Rest<'_>) -> Result<Self, ActError> {
        let word = rest.next("a group's number, `none`, `always` or `on-root-mismatch`")?;
        match word.text.as_slice() {
            b"none" => Ok(Self::Off),
            b"always" => Ok(Self::Always),
            b"on-root-mismatch" => Ok(Self::OnRootMismatch),
            _ => id(&word.as_text()).map(Self::Group).ok_or_else(|| word.error(ActErrorKind::Id)),
        }
    }

    /// Its number.
    #[must_use]
    pub const fn group(self) -> Option<u32> {
        match self {
            Self::Group(gid) => Some(gid),
            Self::Off | Self::Always | Self::OnRootMismatch => None,
        }
    }

    /// Makes it in a pod.
    pub(super) fn of_pod(self, security: &mut PodSecurity, from: Provenance) {
        match self {
            Self::Group(gid) => security.fs_group = Some(Fact::new(gid, from)),
            Self::Off => security.fs_group = None,
            Self::Always => security.on_root_mismatch = Some(Fact::new(false, from)),
            Self::OnRootMismatch => security.on_root_mismatch = Some(Fact::new(true, from)),
        }
    }

    /// Makes it in a container that is in no pod.
    ///
    /// # Errors
    /// There is no policy outside the Kubernetes API.
    pub(super) fn of_container(self, container: &mut Container, from: &Provenance) -> Result<(), String> {
        let Who::Plain(plain) = &mut container.who else { return Ok(()) };
        match self {
            Self::Group(gid) => plain.filesystem_group = Some(Fact::new(gid, from.clone())),
            Self::Off => plain.filesystem_group = None,
            Self::Always | Self::OnRootMismatch => {
                return Err(format!(
                    "{} is in no pod: outside the Kubernetes API the group is given at every start",
                    container.name
                ));
            }
        }
        Ok(())
    }
}

impl fmt::Display for GroupStep {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Group(gid) => gid.fmt(f),
            Self::Off => f.write_str("none"),
            Self::Always => f.write_str("always"),
            Self::OnRootMismatch => f.write_str("on-root-mismatch"),
        }
    }
}
