//! Real file systems to build on: tmpfs as it is, others on an image file behind a loop device.

use std::collections::BTreeMap;
use std::fmt;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::str::FromStr;

use mivask_model::mount::Source;
use mivask_model::personality::{GroupRule, Personality};

use crate::tool::{self, has_tool};
use crate::{Doing, KernelError};

/// A file system that keeps owners and modes itself.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Filesystem {
    /// In memory; needs nothing.
    Tmpfs,
    /// Needs `mkfs.ext4`.
    Ext4,
    /// Needs `mkfs.xfs`.
    Xfs,
    /// Needs `mkfs.btrfs`.
    Btrfs,
}

impl Filesystem {
    /// Every one.
    pub const ALL: [Self; 4] = [Self::Tmpfs, Self::Ext4, Self::Xfs, Self::Btrfs];

    /// Its name in `/proc/filesystems`.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Tmpfs => "tmpfs",
            Self::Ext4 => "ext4",
            Self::Xfs => "xfs",
            Self::Btrfs => "btrfs",
        }
    }

    /// Why it cannot be used here, or `None` where it can.
    #[must_use]
    pub fn unavailable(self) -> Option<String> {
        if self == Self::Tmpfs {
            return None;
        }
        let known = fs::read_to_string("/proc/filesystems").unwrap_or_default();
        if !known.split_whitespace().any(|word| word == self.name()) {
            return Some(format!("this kernel has no {}", self.name()));
        }
        let tool = format!("mkfs.{}", self.name());
        (!has_tool(&tool)).then(|| format!("{tool} is not installed"))
    }

    /// Bytes of the image file (sparse), and the arguments of its mkfs.
    const fn recipe(self) -> (u64, &'static [&'static str]) {
        match self {
            Self::Tmpfs => (0, &[]),
            Self::Ext4 => (128 << 20, &["-q", "-F", "-O", "^has_journal", "-N", "60000"]),
            Self::Xfs => (320 << 20, &["-q", "-f"]),
            Self::Btrfs => (256 << 20, &["-q", "-f"]),
        }
    }
}

impl fmt::Display for Filesystem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// A name that is not that of a file system here.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("nothing can be built on `{name}`: there is {known}")]
pub struct UnknownFilesystem {
    /// As it was written.
    pub name: String,
    /// Those there are.
    pub known: String,
}

impl FromStr for Filesystem {
    type Err = UnknownFilesystem;

    fn from_str(text: &str) -> Result<Self, UnknownFilesystem> {
        let known = Self::ALL.map(Self::name);
        Self::ALL
            .into_iter()
            .find(|filesystem| filesystem.name() == text)
            .ok_or_else(|| UnknownFilesystem { name: text.to_owned(), known: known.join(", ") })
    }
}

/// What sources are built on.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Choice {
    /// Each on the file system the scene tells, tmpfs where it tells none.
    AsTold,
    /// All of those that keep owners themselves on this one.
    On(Filesystem),
}

/// A file system with the mount option that decides about groups.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub(crate) struct Ground {
    pub filesystem: Filesystem,
    pub grpid: bool,
}

impl Ground {
    /// What `source` is built on.
    pub(crate) fn of(source: &Source, choice: Choice) -> Self {
        let given = source.facts.filesystem.as_deref().and_then(|name| name.parse().ok());
        let filesystem = match choice {
            Choice::AsTold => given.unwrap_or(Filesystem::Tmpfs),
            Choice::On(filesystem) => filesystem,
        };
        let plain = Self { filesystem, grpid: false };
        match (&source.facts.personality, source.facts.personality.group_rule()) {
            // Each superblock that is to be read-only must be one of its own.
            _ if source.facts.read_only => Self { filesystem: Filesystem::Tmpfs, grpid: false },
            (Personality::Tmpfs(_), _) => Self { filesystem: Filesystem::Tmpfs, grpid: false },
            (_, GroupRule::Process) => plain,
            (_, GroupRule::Directory) => Self { filesystem: Filesystem::Ext4, grpid: true },
            (_, GroupRule::DirectoryUnlessSetGroupId) => Self { filesystem: Filesystem::Xfs, grpid: true },
        }
    }
}

/// The image-backed file systems of one bench, each made when first needed.
#[derive(Debug)]
pub(crate) struct Grounds {
    scratch: PathBuf,
    made: BTreeMap<Ground, PathBuf>,
}

impl Grounds {
    pub(crate) fn new(scratch: &Path) -> Self {
        Self { scratch: scratch.to_path_buf(), made: BTreeMap::new() }
    }

    /// The folder where `ground` is mounted.
    pub(crate) fn folder(&mut self, ground: Ground) -> Result<PathBuf, KernelError> {
        if let Some(folder) = self.made.get(&ground) {
            return Ok(folder.clone());
        }
        let Ground { filesystem, grpid } = ground;
        if let Some(reason) = filesystem.unavailable() {
            return Err(KernelError::Unsupported(reason));
        }
        let name = format!("{filesystem}{}", if grpid { "-grpid" } else { "" });
        let folder = self.scratch.join(&name);
        let image = self.scratch.join(format!("{name}.img"));
        fs::create_dir(&folder).doing(|| format!("making {}", folder.display()))?;
        let (size, arguments) = filesystem.recipe();
        let file = File::create(&image).doing(|| "making an image file".to_owned())?;
        file.set_len(size).doing(|| "sizing an image file".to_owned())?;
        drop(file);
        tool::run(tool::command(&format!("mkfs.{filesystem}"))?.args(arguments).arg(&image))?;
        let options = if grpid { "loop,grpid" } else { "loop" };
        mount_image(&image, &folder, filesystem.name(), options)?;
        self.made.insert(ground, folder.clone());
        Ok(folder)
    }
}

/// Mounts an image through a loop device, which goes when the mount does. The file's name goes at once.
pub(crate) fn mount_image(image: &Path, at: &Path, kind: &str, options: &str) -> Result<(), KernelError> {
    tool::run(tool::command("mount")?.args(["-t", kind, "-o", options]).args([image, at]))?;
    fs::remove_file(image).doing(|| "removing the name of an image file".to_owned())
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use mivask_model::fact::Provenance;
    use mivask_model::mount::SourceFacts;
    use mivask_model::tree::{Entry, Tree};

    use super::*;

    fn source(filesystem: &str, options: &[&str]) -> Source {
        let mut personality = Personality::of(filesystem).unwrap();
        options.iter().for_each(|option| personality.option(option).unwrap());
        let tree = Arc::new(Tree::new(Entry::directory(0, 0, 0o755), Provenance::rule("test")));
        let filesystem = Some(Arc::from(filesystem));
        Source::new(tree, SourceFacts { filesystem, personality, ..SourceFacts::local("volume v") })
    }

    fn ground(filesystem: Filesystem, grpid: bool) -> Ground {
        Ground { filesystem, grpid }
    }

    #[test]
    fn a_source_is_built_on_what_was_chosen_unless_its_rules_need_more() {
        let on_btrfs = Choice::On(Filesystem::Btrfs);
        let read_only = source("ext4", &[]).with(|facts| facts.read_only = true);
        for (source, choice, expected) in [
            (source("ext4", &[]), Choice::AsTold, ground(Filesystem::Ext4, false)),
            (source("ext4", &[]), on_btrfs, ground(Filesystem::Btrfs, false)),
            (source("zfs", &[]), Choice::AsTold, ground(Filesystem::Tmpfs, false)),
            (source("ext4", &["grpid"]), on_btrfs, ground(Filesystem::Ext4, true)),
            (source("xfs", &["grpid"]), on_btrfs, ground(Filesystem::Xfs, true)),
            (source("tmpfs", &[]), on_btrfs, ground(Filesystem::Tmpfs, false)),
            (read_only, on_btrfs, ground(Filesystem::Tmpfs, false)),
        ] {
            assert_eq!(Ground::of(&source, choice), expected, "{:?} {choice:?}", source.facts.filesystem);
        }
    }

    #[test]
    fn names_are_read_and_what_is_none_is_refused() {
        for filesystem in Filesystem::ALL {
            assert_eq!(filesystem.to_string().parse(), Ok(filesystem));
        }
        assert!("floppy".parse::<Filesystem>().unwrap_err().known.contains("tmpfs, ext4"));
        assert!(has_tool("sh") && !has_tool("no-such-tool"));
    }
}
