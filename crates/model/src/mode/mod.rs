//! Permission bits and file kinds.

mod change;
mod meaning;
mod notation;
mod slip;

use std::fmt;
use std::str::FromStr;

pub use change::{ModeChange, Who};
pub use meaning::{Class, Concern, concerns, created, power};
pub use notation::{NotationError, Written};

/// The twelve permission bits of an inode: set-user-id, set-group-id, sticky and 3 x `rwx`.
///
/// It cannot hold a file kind; that is a [`FileKind`] of its own.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Mode(u16);

/// A text that is not a mode, or not a change of one.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("{}", self.said())]
pub struct ModeError(pub String);

impl ModeError {
    /// What is wrong, and what to write instead.
    fn said(&self) -> String {
        let help = slip::slip(&self.0).unwrap_or_else(|| "write octal (0640) or clauses (g+w,o=)".to_owned());
        format!("`{}` is not a mode: {help}", self.0)
    }
}

impl Mode {
    /// Set-user-id, `04000`.
    pub const SET_USER_ID: Self = Self(0o4000);
    /// Set-group-id, `02000`.
    pub const SET_GROUP_ID: Self = Self(0o2000);
    /// Sticky, `01000`.
    pub const STICKY: Self = Self(0o1000);
    /// Any of the three execute bits, `0111`.
    pub const ANY_EXECUTE: Self = Self(0o111);

    /// Keeps the low twelve bits of `raw` and drops the rest.
    #[must_use]
    pub const fn new(raw: u16) -> Self {
        Self(raw & 0o7777)
    }

    /// The mode that `text`, read as octal, would be in decimal, where that is what someone must have meant: 420 for 0644.
    #[must_use]
    pub fn in_decimal(text: &str) -> Option<Self> {
        slip::in_decimal(text)
    }

    /// What is wrong with a text that is not a mode, and what to write instead, where it is a usual slip.
    #[must_use]
    pub fn slip(text: &str) -> Option<String> {
        slip::slip(text)
    }

    /// Modes that people use, from none to all.
    pub fn common() -> impl Iterator<Item = Self> {
        slip::COMMON.into_iter().map(Self::new)
    }

    /// The bits as a number, `0` to `0o7777`.
    #[must_use]
    pub const fn bits(self) -> u16 {
        self.0
    }

    /// Whether every bit of `other` is set.
    #[must_use]
    pub const fn has(self, other: Self) -> bool {
        self.0 & other.0 == other.0
    }

    /// Whether at least one bit of `other` is set.
    #[must_use]
    pub const fn has_any(self, other: Self) -> bool {
        self.0 & other.0 != 0
    }

    /// With the bits of `other` added.
    #[must_use]
    pub const fn with(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// With the bits of `other` removed.
    #[must_use]
    pub const fn without(self, other: Self) -> Self {
        Self(self.0 & !other.0)
    }

    /// Only the bits that `other` has too.
    #[must_use]
    pub const fn masked(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }

    /// The owner's three bits.
    #[must_use]
    pub const fn owner(self) -> Access {
        Access::new(self.0 >> 6)
    }

    /// The group's three bits (with an ACL: its mask).
    #[must_use]
    pub const fn group(self) -> Access {
        Access::new(self.0 >> 3)
    }

    /// Everyone else's three bits.
    #[must_use]
    pub const fn other(self) -> Access {
        Access::new(self.0)
    }
}

impl fmt::Display for Mode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:04o}", self.0)
    }
}

impl fmt::Debug for Mode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for Mode {
    type Err = ModeError;

    /// Octal however it is written: `0750`, `750`, `0o750`.
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let digits = text.strip_prefix("0o").unwrap_or(text);
        if digits.is_empty() || digits.len() > 8 || !digits.bytes().all(|b| b.is_ascii_digit()) {
            return Err(ModeError(text.to_owned()));
        }
        match u16::from_str_radix(digits, 8) {
            Ok(bits) if bits <= 0o7777 => Ok(Self(bits)),
            Ok(_) | Err(_) => Err(ModeError(text.to_owned())),
        }
    }
}

/// A set of the three accesses read, write and execute: what is asked for, or what a class grants.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Access(u8);

impl Access {
    /// Nothing at all: only the walk matters.
    pub const NONE: Self = Self(0);
    /// `r`.
    pub const READ: Self = Self(4);
    /// `w`.
    pub const WRITE: Self = Self(2);
    /// `x`: run a file, search a directory.
    pub const EXECUTE: Self = Self(1);
    /// `wx`: what changing a directory's entries takes.
    pub const WRITE_EXECUTE: Self = Self(3);
    /// `rw`.
    pub const READ_WRITE: Self = Self(6);
    /// `rwx`.
    pub const ALL: Self = Self(7);

    /// Keeps the low three bits of `raw`.
    #[must_use]
    pub const fn new(raw: u16) -> Self {
        Self((raw & 7) as u8)
    }

    /// The three bits as a number, `0` to `7`.
    #[must_use]
    pub const fn bits(self) -> u8 {
        self.0
    }

    /// Whether all of `wanted` is in here.
    #[must_use]
    pub const fn grants(self, wanted: Self) -> bool {
        self.0 & wanted.0 == wanted.0
    }

    /// Only what `other` has too.
    #[must_use]
    pub const fn masked(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }

    /// Whether write is in here.
    #[must_use]
    pub const fn writes(self) -> bool {
        self.grants(Self::WRITE)
    }
}

impl fmt::Display for Access {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (bit, letter) in [(4, "r"), (2, "w"), (1, "x")] {
            f.write_str(if self.0 & bit == 0 { "-" } else { letter })?;
        }
        Ok(())
    }
}

impl fmt::Debug for Access {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

/// What an inode is.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum FileKind {
    /// A regular file.
    File,
    /// A directory.
    Directory,
    /// A symbolic link.
    Link,
    /// A named pipe.
    Fifo,
    /// A Unix socket.
    Socket,
    /// A character device.
    CharDevice,
    /// A block device.
    BlockDevice,
}

impl FileKind {
    /// Every kind, in the order of the scene format's documentation.
    pub const ALL: [Self; 7] = [
        Self::File,
        Self::Directory,
        Self::Link,
        Self::Fifo,
        Self::Socket,
        Self::CharDevice,
        Self::BlockDevice,
    ];

    /// The word used in scene files, JSON and text.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::File => "file",
            Self::Directory => "dir",
            Self::Link => "link",
            Self::Fifo => "fifo",
            Self::Socket => "socket",
            Self::CharDevice => "char",
            Self::BlockDevice => "block",
        }
    }

    /// What it is called in a sentence.
    #[must_use]
    pub const fn noun(self) -> &'static str {
        match self {
            Self::File => "file",
            Self::Directory => "directory",
            Self::Link => "link",
            Self::Fifo => "pipe",
            Self::Socket => "socket",
            Self::CharDevice => "character-device",
            Self::BlockDevice => "block-device",
        }
    }

    /// The kind of that noun, or of the word of a scene file.
    #[must_use]
    pub fn by_noun(noun: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.noun() == noun || kind.word() == noun)
    }

    /// The first letter of a long listing (POSIX `ls -l`).
    #[must_use]
    pub const fn letter(self) -> char {
        match self {
            Self::File => '-',
            Self::Directory => 'd',
            Self::Link => 'l',
            Self::Fifo => 'p',
            Self::Socket => 's',
            Self::CharDevice => 'c',
            Self::BlockDevice => 'b',
        }
    }

    /// Whether it is a character or block device.
    #[must_use]
    pub const fn is_device(self) -> bool {
        matches!(self, Self::CharDevice | Self::BlockDevice)
    }
}

/// The POSIX long-listing string of a kind and mode, such as `drwxr-s---`.
#[must_use]
pub fn symbolic(kind: FileKind, mode: Mode) -> String {
    let mut text = String::with_capacity(10);
    text.push(kind.letter());
    let special = [
        (Mode::SET_USER_ID, mode.owner(), 's', 'S'),
        (Mode::SET_GROUP_ID, mode.group(), 's', 'S'),
        (Mode::STICKY, mode.other(), 't', 'T'),
    ];
    for (bit, class, with_x, without_x) in special {
        text.push(if class.grants(Access::READ) { 'r' } else { '-' });
        text.push(if class.grants(Access::WRITE) { 'w' } else { '-' });
        text.push(match (mode.has(bit), class.grants(Access::EXECUTE)) {
            (true, true) => with_x,
            (true, false) => without_x,
            (false, true) => 'x',
            (false, false) => '-',
        });
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mode_is_octal_however_it_is_written() {
        for text in ["0750", "750", "0o750", "00750"] {
            assert_eq!(text.parse::<Mode>().unwrap(), Mode::new(0o750), "{text}");
        }
        for text in ["", "9", "0o", "10000", "rwx", "-1", "0o9", "7777777777777"] {
            assert!(text.parse::<Mode>().is_err(), "{text}");
        }
    }

    #[test]
    fn special_bits_without_x_show_as_capitals() {
        assert_eq!(symbolic(FileKind::Directory, Mode::new(0o3777)), "drwxrwsrwt");
        assert_eq!(symbolic(FileKind::File, Mode::new(0o7644)), "-rwSr-Sr-T");
    }
}
