//! tmpfs: native, with options for the root of a new one (`shmem_fill_super`).

use super::{OptionError, id, octal};
use crate::mode::Mode;

/// A tmpfs as it is mounted.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Tmpfs {
    /// Owner of the root.
    pub uid: u32,
    /// Group of the root.
    pub gid: u32,
    /// Mode of the root.
    pub mode: Mode,
}

impl Default for Tmpfs {
    fn default() -> Self {
        Self { uid: 0, gid: 0, mode: Mode::new(0o1777) }
    }
}

impl Tmpfs {
    /// Takes one mount option, such as `mode=0700`.
    ///
    /// # Errors
    /// The option is unknown, or its value is invalid.
    pub fn set(&mut self, option: &str) -> Result<(), OptionError> {
        let (key, value) = option.split_once('=').map_or((option, None), |(key, value)| (key, Some(value)));
        if self.option(key, value)? { Ok(()) } else { Err(OptionError::Unknown) }
    }

    pub(super) fn option(&mut self, key: &str, value: Option<&str>) -> Result<bool, OptionError> {
        match key {
            "uid" => self.uid = id(value)?,
            "gid" => self.gid = id(value)?,
            "mode" => self.mode = octal(value)?,
            "size" | "nr_inodes" | "nr_blocks" | "huge" | "inode64" | "noswap" => {}
            _ => return Ok(false),
        }
        Ok(true)
    }
}
