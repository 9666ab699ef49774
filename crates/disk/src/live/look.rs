//! One entry of the working directory: its facts, as the kernel tells them.

use std::ffi::CStr;
use std::io::Read;
use std::os::fd::OwnedFd;
use std::sync::Arc;

use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{Content, Extended, Marks};
use mivask_model::xattr;
use rustix::fs::{AtFlags, CWD, FileType, Mode as OpenMode, OFlags, Statx, StatxAttributes, StatxFlags};
use rustix::io::Errno;

/// How much of a program file decides what execve does with it (`BINPRM_BUF_SIZE`).
const HEAD: usize = 256;

/// Asks for what a tree keeps.
pub(super) fn look(name: &CStr) -> rustix::io::Result<Statx> {
    let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
    rustix::fs::statx(CWD, name, flags, StatxFlags::BASIC_STATS)
}

/// The kind of what was looked at.
pub(super) fn kind(facts: &Statx) -> FileKind {
    kind_of(FileType::from_raw_mode(u32::from(facts.stx_mode))).unwrap_or(FileKind::File)
}

/// The kind that a directory's own entry tells; `None` where it tells none.
pub(super) const fn kind_of(given: FileType) -> Option<FileKind> {
    Some(match given {
        FileType::RegularFile => FileKind::File,
        FileType::Directory => FileKind::Directory,
        FileType::Symlink => FileKind::Link,
        FileType::Fifo => FileKind::Fifo,
        FileType::Socket => FileKind::Socket,
        FileType::CharacterDevice => FileKind::CharDevice,
        FileType::BlockDevice => FileKind::BlockDevice,
        FileType::Unknown => return None,
    })
}

/// The attributes a tree keeps.
pub(super) fn marks(facts: &Statx) -> Marks {
    let has = |attribute| facts.stx_attributes.contains(attribute);
    let mut marks = Marks::default();
    if has(StatxAttributes::IMMUTABLE) {
        marks = marks.with(Marks::IMMUTABLE);
    }
    if has(StatxAttributes::APPEND) {
        marks = marks.with(Marks::APPEND_ONLY);
    }
    marks
}

/// Whether something is mounted there.
pub(super) fn is_mount_root(facts: &Statx) -> bool {
    facts.stx_attributes.contains(StatxAttributes::MOUNT_ROOT)
}

/// Device and inode number together name a file.
pub(super) fn identity(facts: &Statx) -> (u64, u64) {
    (device(facts), facts.stx_ino)
}

pub(super) fn device(facts: &Statx) -> u64 {
    u64::from(facts.stx_dev_major) << 32 | u64::from(facts.stx_dev_minor)
}

/// What execve meets in a file that may be run: only then is it worth opening.
pub(super) fn content(name: &CStr, facts: &Statx) -> Content {
    if facts.stx_size == 0 {
        return Content::Empty;
    }
    if u32::from(facts.stx_mode) & 0o111 == 0 {
        return Content::Unknown;
    }
    let how = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    // Looking leaves no trace, where that is allowed.
    let open = |how| rustix::fs::openat(CWD, name, how, OpenMode::empty());
    let Ok(file) = open(how | OFlags::NOATIME).or_else(|_| open(how)) else {
        return Content::Unknown;
    };
    let mut head = Vec::with_capacity(HEAD);
    match std::fs::File::from(file).take(HEAD as u64).read_to_end(&mut head) {
        Ok(_) => crate::program::content(&head),
        Err(_) => Content::Unknown,
    }
}

/// Reads extended attributes, and remembers which device has none.
pub(super) struct Attributes {
    buffer: Vec<u8>,
    /// The device that was found not to know extended attributes.
    without: Option<u64>,
    /// The last label, since neighbours mostly have the same.
    label: Option<Arc<str>>,
}

impl Attributes {
    pub(super) const fn new() -> Self {
        Self { buffer: Vec::new(), without: None, label: None }
    }

    /// ACLs, file capabilities and label of an entry.
    pub(super) fn of(&mut self, name: &CStr, device: u64) -> rustix::io::Result<Extended> {
        if self.without == Some(device) {
            return Ok(Extended::default());
        }
        self.read(
            device,
            rustix::fs::llistxattr_query(name),
            |buffer| rustix::fs::llistxattr(name, buffer),
            |attribute, buffer| rustix::fs::lgetxattr(name, attribute, buffer),
        )
    }

    /// Those of a directory that is open.
    pub(super) fn of_open(&mut self, directory: &OwnedFd, device: u64) -> rustix::io::Result<Extended> {
        self.read(
            device,
            rustix::fs::flistxattr_query(directory),
            |buffer| rustix::fs::flistxattr(directory, buffer),
            |attribute, buffer| rustix::fs::fgetxattr(directory, attribute, buffer),
        )
    }

    fn read(
        &mut self,
        device: u64,
        length: rustix::io::Result<usize>,
        list: impl Fn(&mut [u8]) -> rustix::io::Result<usize>,
        get: impl Fn(&CStr, &mut [u8]) -> rustix::io::Result<usize>,
    ) -> rustix::io::Result<Extended> {
        let mut extended = Extended::default();
        // Nearly always there are none, and the kernel answers quicker to someone who only asks how many.
        match length {
            Ok(0) => return Ok(extended),
            Err(Errno::NOTSUP) => {
                self.without = Some(device);
                return Ok(extended);
            }
            other => other?,
        };
        let length = self.fitting(list)?;
        let names = self.buffer[..length].to_vec();
        for name in names.split_inclusive(|byte| *byte == 0) {
            let Ok(attribute) = CStr::from_bytes_with_nul(name) else { continue };
            let text = attribute.to_bytes();
            let [access, default] = [xattr::ACCESS, xattr::DEFAULT].map(|name| text == name.as_bytes());
            let label = text == xattr::LABEL.as_bytes();
            if !access && !default && !label && text != xattr::CAPABILITIES.as_bytes() {
                continue;
            }
            let length = match self.fitting(|buffer| get(attribute, buffer)) {
                // It went away in between.
                Err(Errno::NODATA) => continue,
                other => other?,
            };
            let value = &self.buffer[..length];
            if access {
                extended.access = xattr::decode(value);
            } else if default {
                extended.default = xattr::decode(value);
            } else if label {
                let text = xattr::decode_label(value);
                if self.label.as_deref() != text {
                    self.label = text.map(Arc::from);
                }
                extended.label = self.label.clone();
            } else {
                extended.capabilities = xattr::decode_capabilities(value);
            }
        }
        Ok(extended)
    }

    /// Calls until the buffer is large enough.
    fn fitting(
        &mut self,
        call: impl Fn(&mut [u8]) -> rustix::io::Result<usize>,
    ) -> rustix::io::Result<usize> {
        self.buffer.resize(self.buffer.len().max(1024), 0);
        loop {
            match call(&mut self.buffer) {
                // No list and no value is longer (XATTR_LIST_MAX, XATTR_SIZE_MAX).
                Err(Errno::RANGE) if self.buffer.len() < 1 << 16 => self.buffer.resize(1 << 16, 0),
                other => return other,
            }
        }
    }
}

/// The mode of what was looked at.
pub(super) const fn mode(facts: &Statx) -> Mode {
    Mode::new(facts.stx_mode)
}
