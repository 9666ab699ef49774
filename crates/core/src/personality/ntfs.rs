//! ntfs3: what other systems wrote shows one owner and mode; what Linux writes may carry its own, in
//! extended attributes (fs/ntfs3/xattr.c), so changes depend on facts nobody has here.

use super::{Feature, OptionError, Shown, Support, id, octal};
use crate::ids::{DiskGid, DiskUid};
use crate::mode::Mode;
use crate::outcome::Errno;

/// Its options; masks default to the mounter's umask, taken to be 0022.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Ntfs {
    uid: u32,
    gid: u32,
    file_mask: Mode,
    directory_mask: Mode,
}

impl Default for Ntfs {
    fn default() -> Self {
        Self { uid: 0, gid: 0, file_mask: Mode::new(0o022), directory_mask: Mode::new(0o022) }
    }
}

impl Ntfs {
    pub(super) fn option(&mut self, key: &str, value: Option<&str>) -> Result<bool, OptionError> {
        match key {
            "uid" => self.uid = id(value)?,
            "gid" => self.gid = id(value)?,
            "umask" => (self.file_mask, self.directory_mask) = (octal(value)?, octal(value)?),
            "fmask" => self.file_mask = octal(value)?,
            "dmask" => self.directory_mask = octal(value)?,
            "iocharset" | "discard" | "hidden" | "sparse" | "prealloc" => {}
            _ => return Ok(false),
        }
        Ok(true)
    }

    pub(super) const fn shown(&self) -> Shown {
        let all = Mode::new(0o777);
        Shown {
            uid: DiskUid::new(self.uid),
            gid: DiskGid::new(self.gid),
            file: all.without(self.file_mask),
            directory: all.without(self.directory_mask),
        }
    }
}

pub(super) const fn support(feature: Feature) -> Support {
    match feature {
        Feature::Links | Feature::HardLinks | Feature::Nodes => Support::Yes,
        Feature::Owners | Feature::Modes => {
            Support::Unknown("whether ntfs3 keeps Linux owners and modes on this volume")
        }
        Feature::Attributes => Support::Yes,
        Feature::Acls => Support::No(Errno::EOPNOTSUPP),
    }
}
