//! FUSE: who may enter at all, and who checks modes (fs/fuse/dir.c, `fuse_allow_current_process`).

use super::{OptionError, id, octal};
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
    /// `uid`, `gid` or `umask`: the library shows other owners and modes than the program has, which may check its own as well
    /// (measured with fuse2fs; mount.fuse(8)).
    pub overrides: bool,
}

impl Default for Fuse {
    fn default() -> Self {
        Self {
            uid: KernelUid::new(0),
            gid: KernelGid::new(0),
            allow_other: false,
            default_permissions: false,
            overrides: false,
        }
    }
}

impl Fuse {
    /// Whether the owners and modes that are listed decide, and the kernel alone checks them.
    #[must_use]
    pub const fn goes_by_bits(&self) -> bool {
        self.default_permissions && !self.overrides
    }

    pub(super) fn option(&mut self, key: &str, value: Option<&str>) -> Result<bool, OptionError> {
        match key {
            "user_id" => self.uid = KernelUid::new(id(value)?),
            "group_id" => self.gid = KernelGid::new(id(value)?),
            "allow_other" => self.allow_other = true,
            "default_permissions" => self.default_permissions = true,
            "uid" | "gid" => {
                id(value)?;
                self.overrides = true;
            }
            "umask" => {
                octal(value)?;
                self.overrides = true;
            }
            "rootmode" | "fd" | "max_read" | "blksize" => {}
            _ => return Ok(false),
        }
        Ok(true)
    }
}
