//! What vfat, exfat and ntfs3 share: one owner for everything, and masks for files and directories.

use super::{OptionError, Shown, id, octal};
use crate::ids::{DiskGid, DiskUid};
use crate::mode::Mode;

/// Their options; masks default to the mounter's umask, taken to be 0022.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) struct Masks {
    pub uid: u32,
    pub gid: u32,
    pub file: Mode,
    pub directory: Mode,
}

impl Default for Masks {
    fn default() -> Self {
        Self { uid: 0, gid: 0, file: Mode::new(0o022), directory: Mode::new(0o022) }
    }
}

impl Masks {
    /// Takes in one option; whether it is one of these.
    pub(super) fn option(&mut self, key: &str, value: Option<&str>) -> Result<bool, OptionError> {
        match key {
            "uid" => self.uid = id(value)?,
            "gid" => self.gid = id(value)?,
            "umask" => (self.file, self.directory) = (octal(value)?, octal(value)?),
            "fmask" => self.file = octal(value)?,
            "dmask" => self.directory = octal(value)?,
            _ => return Ok(false),
        }
        Ok(true)
    }

    pub(super) const fn shown(&self) -> Shown {
        let all = Mode::new(0o777);
        Shown {
            uid: DiskUid::new(self.uid),
            gid: DiskGid::new(self.gid),
            file: all.without(self.file),
            directory: all.without(self.directory),
        }
    }
}
