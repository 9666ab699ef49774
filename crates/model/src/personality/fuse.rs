//! FUSE: who may enter at all, and who checks modes (fs/fuse/dir.c, `fuse_allow_current_process`).

use super::{OptionError, id};
use crate::ids::{KernelGid, KernelUid};

/// Its options.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Fuse {
    /// `user_id`: the mounter.
    pub uid: KernelUid,
    /// `group_id`: the mounter's group.
    pub gid: KernelGid,
    /// `allow_other`: everyone may enter.
    pub allow_other: bool,
    /// `default_permissions`: the kernel checks owners and modes.
    pub default_permissions: bool,
}

impl Default for Fuse {
    fn default() -> Self {
        Self {
            uid: KernelUid::new(0),
            gid: KernelGid::new(0),
            allow_other: false,
            default_permissions: false,
        }
    }
}

impl Fuse {
    pub(super) fn option(&mut self, key: &str, value: Option<&str>) -> Result<bool, OptionError> {
        match key {
            "user_id" => self.uid = KernelUid::new(id(value)?),
            "group_id" => self.gid = KernelGid::new(id(value)?),
            "allow_other" => self.allow_other = true,
            "default_permissions" => self.default_permissions = true,
            "rootmode" | "fd" | "max_read" | "blksize" => {}
            _ => return Ok(false),
        }
        Ok(true)
    }
}
