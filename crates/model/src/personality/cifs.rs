//! SMB shares: the client shows one owner and mode, and the server decides too (fs/smb/client).

use super::{Feature, OptionError, Shown, Support, id, octal};
use crate::ids::{DiskGid, DiskUid};
use crate::mode::Mode;

/// Its options.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Cifs {
    uid: u32,
    gid: u32,
    file: Mode,
    directory: Mode,
    /// `noperm`: the client checks nothing, the server alone decides.
    pub unchecked: bool,
}

impl Default for Cifs {
    fn default() -> Self {
        Self { uid: 0, gid: 0, file: Mode::new(0o755), directory: Mode::new(0o755), unchecked: false }
    }
}

impl Cifs {
    pub(super) fn option(&mut self, key: &str, value: Option<&str>) -> Result<bool, OptionError> {
        match key {
            "uid" => self.uid = id(value)?,
            "gid" => self.gid = id(value)?,
            "file_mode" => self.file = octal(value)?,
            "dir_mode" => self.directory = octal(value)?,
            "noperm" => self.unchecked = true,
            "perm" => self.unchecked = false,
            "forceuid" | "forcegid" | "vers" | "sec" | "username" | "password" | "domain" | "credentials"
            | "cache" | "iocharset" | "nosharesock" | "mfsymlinks" | "actimeo" => {}
            _ => return Ok(false),
        }
        Ok(true)
    }

    pub(super) const fn shown(&self) -> Shown {
        Shown {
            uid: DiskUid::new(self.uid),
            gid: DiskGid::new(self.gid),
            file: self.file,
            directory: self.directory,
        }
    }
}

pub(super) const fn support(feature: Feature) -> Support {
    match feature {
        Feature::Links | Feature::HardLinks | Feature::Nodes => {
            Support::Unknown("whether the SMB server offers links and special files")
        }
        Feature::Owners | Feature::Modes => {
            Support::Unknown("whether the SMB server keeps Unix owners and modes")
        }
        Feature::Attributes | Feature::Acls => {
            Support::Unknown("whether the SMB server keeps extended attributes")
        }
    }
}
