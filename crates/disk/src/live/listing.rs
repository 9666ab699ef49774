//! What was found in one directory.

use mivask_model::mode::FileKind;
use mivask_model::tree::{Content, Device, Doubt, Extended, Marks};

use crate::gathered::Holes;

/// The entries of one directory, sorted by name.
#[derive(Default)]
pub(super) struct Listing {
    /// The names, one behind the other.
    pub names: Vec<u8>,
    pub entries: Vec<Found>,
    pub rare: Vec<Rare>,
    /// What is not certain about the directory itself; its owner and mode are in the one above.
    pub unlisted: Option<Doubt>,
    pub holes: Holes,
}

/// One entry, small: directories may hold millions.
#[derive(Clone, Copy)]
pub(super) struct Found {
    pub name_start: u32,
    pub name_length: u8,
    pub kind: FileKind,
    pub marks: Marks,
    pub mode: u16,
    pub uid: u32,
    pub gid: u32,
    /// The number of the directory's own listing, if it was entered.
    pub directory: Option<u32>,
    /// 1 + index of what only few entries have, 0 for nothing.
    pub rare: u32,
    pub size: u64,
    /// Whether it is a file without a byte.
    pub empty: bool,
}

/// What only few entries have.
#[derive(Default)]
pub(super) struct Rare {
    pub target: Box<[u8]>,
    pub extended: Extended,
    pub device: Option<Device>,
    pub content: Option<Content>,
    pub doubt: Option<Doubt>,
    /// Device and inode number of a file with several names.
    pub shared: Option<(u64, u64)>,
}

impl Listing {
    pub(super) fn name(&self, entry: &Found) -> &[u8] {
        let start = entry.name_start as usize;
        &self.names[start..start + usize::from(entry.name_length)]
    }

    /// Adds the name of an entry; where it begins and how long it is.
    pub(super) fn push_name(&mut self, name: &[u8]) -> Option<(u32, u8)> {
        let start = u32::try_from(self.names.len()).ok()?;
        let length = u8::try_from(name.len()).ok()?;
        self.names.extend_from_slice(name);
        Some((start, length))
    }

    pub(super) fn sort(&mut self) {
        let names = &self.names;
        let name = |entry: &Found| {
            let start = entry.name_start as usize;
            &names[start..start + usize::from(entry.name_length)]
        };
        self.entries.sort_unstable_by(|a, b| name(a).cmp(name(b)));
    }

    pub(super) fn rare(&mut self, rare: Rare) -> u32 {
        self.rare.push(rare);
        u32::try_from(self.rare.len()).unwrap_or(0)
    }
}
