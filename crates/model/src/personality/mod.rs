//! What a filesystem does differently: which owners and modes it shows, who decides, what it lacks.
//!
//! One file a family. The rest of the crate asks a [`Personality`] a handful of questions; the answers of
//! the native one are those of ext4.

mod cifs;
mod fat;
mod fuse;
mod image;
mod kernel;
mod masks;
mod native;
mod nfs;
mod ntfs;
mod overlay;
mod remote;
mod tmpfs;

pub use cifs::Cifs;
pub use fat::Fat;
pub use fuse::Fuse;
pub use kernel::{Entry, Kernel};
pub use native::{GroupRule, Native};
pub use nfs::{Export, Nfs, Squash};
pub use ntfs::Ntfs;
pub use remote::Remote;
pub use tmpfs::Tmpfs;

use crate::ids::{DiskGid, DiskUid};
use crate::mode::{FileKind, Mode};
use crate::outcome::Errno;

/// The family a filesystem belongs to, with its options.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Personality {
    /// ext4, xfs, btrfs and the like: keeps owners, modes and ACLs itself.
    Native(Native),
    /// A native one in memory, with options for its root.
    Tmpfs(Tmpfs),
    /// Layers of an image under a writable one.
    Overlay,
    /// squashfs, erofs: native and always read-only.
    Image,
    /// vfat, msdos, exfat: one owner and mode for everything.
    Fat(Fat),
    /// ntfs3: one owner and mode for what is there already.
    Ntfs(Ntfs),
    /// SMB shares: one owner and mode for everything, and the server decides too.
    Cifs(Cifs),
    /// NFS: the server decides, for the identity it makes of the client's.
    Nfs(Nfs),
    /// FUSE: who may enter at all, and whether the kernel or the program behind it checks modes.
    Fuse(Fuse),
    /// 9p, virtiofs and the like: the kernel checks what is shown, then the server decides too.
    Remote(Remote),
    /// proc, sysfs and others whose entries the kernel makes.
    Kernel(Kernel),
}

/// Something not every filesystem can do.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Feature {
    /// Symbolic links.
    Links,
    /// Further names of one file.
    HardLinks,
    /// Fifos, sockets and devices.
    Nodes,
    /// Keeping an owner.
    Owners,
    /// Keeping a mode.
    Modes,
    /// `user.*` and other extended attributes.
    Attributes,
    /// POSIX ACLs.
    Acls,
}

/// Whether a filesystem has a feature.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Support {
    /// It has.
    Yes,
    /// It answers this error.
    No(Errno),
    /// It depends on what no one can know from here; the words say on what.
    Unknown(&'static str),
}

/// The owner and modes every entry of a filesystem shows, whatever is stored.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Shown {
    /// Owner of everything.
    pub uid: DiskUid,
    /// Group of everything.
    pub gid: DiskGid,
    /// Mode of every file.
    pub file: Mode,
    /// Mode of every directory.
    pub directory: Mode,
}

impl Shown {
    /// The mode something of `kind` shows.
    #[must_use]
    pub const fn mode(&self, kind: FileKind) -> Mode {
        if matches!(kind, FileKind::Directory) { self.directory } else { self.file }
    }
}

/// Why a mount option cannot be understood.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum OptionError {
    /// The filesystem has no such option, or none that decides anything here.
    #[error("is not modelled for this file system, so it is ignored")]
    Unknown,
    /// The value is not of the kind the option takes.
    #[error("needs {0}")]
    Value(&'static str),
}

impl Default for Personality {
    fn default() -> Self {
        Self::Native(Native::default())
    }
}

impl Personality {
    /// The personality of a filesystem type as `/proc/mounts` names it; `None` where it is not known.
    #[must_use]
    pub fn of(filesystem: &str) -> Option<Self> {
        Some(match filesystem {
            "ext2" | "ext3" | "ext4" | "xfs" | "btrfs" | "zfs" | "f2fs" | "jfs" | "bcachefs" => {
                Self::Native(Native::of(filesystem))
            }
            "tmpfs" => Self::Tmpfs(Tmpfs::default()),
            "overlay" => Self::Overlay,
            "squashfs" | "erofs" | "iso9660" | "cramfs" => Self::Image,
            "vfat" | "msdos" => Self::Fat(Fat::default()),
            "exfat" => Self::Fat(Fat::exfat()),
            "ntfs3" => Self::Ntfs(Ntfs::default()),
            "cifs" | "smb3" => Self::Cifs(Cifs::default()),
            "nfs" | "nfs4" => Self::Nfs(Nfs::default()),
            "fuse" | "fuseblk" => Self::Fuse(Fuse::default()),
            "9p" | "virtiofs" | "ceph" | "drvfs" => Self::Remote(Remote),
            other if other.starts_with("fuse.") => Self::Fuse(Fuse::default()),
            other => Self::Kernel(Kernel::of(other)?),
        })
    }

    /// Takes in one mount option that is not a flag.
    ///
    /// # Errors
    /// The option is not one of this filesystem, or its value is not a number of the kind it takes.
    pub fn option(&mut self, option: &str) -> Result<(), OptionError> {
        let (key, value) = option.split_once('=').map_or((option, None), |(key, value)| (key, Some(value)));
        let known = match self {
            Self::Native(native) => native.option(key),
            Self::Tmpfs(tmpfs) => tmpfs.option(key, value)?,
            Self::Fat(fat) => fat.option(key, value)?,
            Self::Ntfs(ntfs) => ntfs.option(key, value)?,
            Self::Cifs(cifs) => cifs.option(key, value)?,
            Self::Nfs(_) => nfs::is_harmless(key),
            Self::Fuse(fuse) => fuse.option(key, value)?,
            Self::Overlay => overlay::is_harmless(key),
            Self::Image | Self::Remote(_) | Self::Kernel(_) => false,
        };
        if known { Ok(()) } else { Err(OptionError::Unknown) }
    }

    /// The owner and modes everything shows, where the filesystem has one answer for all.
    #[must_use]
    pub const fn shown(&self) -> Option<Shown> {
        match self {
            Self::Fat(fat) => Some(fat.shown()),
            Self::Ntfs(ntfs) => Some(ntfs.shown()),
            Self::Cifs(cifs) => Some(cifs.shown()),
            Self::Native(_)
            | Self::Tmpfs(_)
            | Self::Overlay
            | Self::Image
            | Self::Nfs(_)
            | Self::Fuse(_)
            | Self::Kernel(_)
            | Self::Remote(_) => None,
        }
    }

    /// Whether it can do `feature`.
    #[must_use]
    pub const fn support(&self, feature: Feature) -> Support {
        match self {
            Self::Native(_) | Self::Tmpfs(_) | Self::Overlay | Self::Image => Support::Yes,
            Self::Fat(_) => fat::support(feature),
            Self::Ntfs(_) => ntfs::support(feature),
            Self::Cifs(_) => cifs::support(feature),
            Self::Nfs(_) => nfs::support(feature),
            Self::Fuse(_) | Self::Remote(_) => remote::support(feature),
            Self::Kernel(kernel) => kernel.support(feature),
        }
    }

    /// Whether it can rename without replacing, and with `exchange` two names against each other (the flags of renameat2(2)).
    #[must_use]
    pub const fn renames_so(&self, exchange: bool) -> Support {
        match self {
            Self::Native(_)
            | Self::Tmpfs(_)
            | Self::Overlay
            | Self::Image
            | Self::Fat(_)
            | Self::Kernel(_) => Support::Yes,
            Self::Ntfs(_) | Self::Cifs(_) if !exchange => Support::Yes,
            Self::Fuse(_) => Support::Unknown("whether the program behind the mount renames so"),
            Self::Ntfs(_) | Self::Cifs(_) | Self::Nfs(_) | Self::Remote(_) => Support::No(Errno::EINVAL),
        }
    }

    /// Whether removing an access ACL takes set-group-id from outsiders of the file's group, as giving one does
    /// (`simple_set_acl`, `ovl_set_acl`); others touch no mode then.
    #[must_use]
    pub const fn drops_set_group_id_with_acl(&self) -> bool {
        matches!(self, Self::Tmpfs(_) | Self::Overlay)
    }

    /// Whether it keeps the attribute `name`, whose prefix is none of `user.`, `trusted.` and `security.`: FUSE passes every name
    /// on, others have `system.` names of their own (`s_xattr` of each).
    #[must_use]
    pub fn keeps_other_name(&self, name: &[u8]) -> Support {
        let takes = match self {
            Self::Fuse(_) => true,
            Self::Ntfs(_) | Self::Cifs(_) | Self::Nfs(_) | Self::Remote(_) => name.starts_with(b"system."),
            Self::Native(_)
            | Self::Tmpfs(_)
            | Self::Overlay
            | Self::Image
            | Self::Fat(_)
            | Self::Kernel(_) => false,
        };
        if takes {
            return Support::Unknown("whether this file system keeps attributes of that name");
        }
        Support::No(Errno::EOPNOTSUPP)
    }

    /// What it answers to that change of a directory, whoever asks; `None` where it depends on permission.
    #[must_use]
    pub const fn refuses(&self, entry: Entry) -> Option<Errno> {
        if let Self::Kernel(kernel) = self { kernel.refuses(entry) } else { None }
    }

    /// Whether a name that is not there cannot even be asked for: ENOENT before all else.
    #[must_use]
    pub const fn knows_all_names(&self) -> bool {
        matches!(self, Self::Kernel(Kernel::Proc))
    }

    /// Where a new inode's group comes from.
    #[must_use]
    pub const fn group_rule(&self) -> GroupRule {
        match self.native() {
            Some(native) => native.group_rule(),
            None => GroupRule::Process,
        }
    }

    /// What a rename over a directory with entries ends with.
    #[must_use]
    pub const fn full_directory(&self) -> Errno {
        match self.native() {
            Some(native) => native.full_directory(),
            None => Errno::ENOTEMPTY,
        }
    }

    const fn native(&self) -> Option<Native> {
        if let Self::Native(native) = self { Some(*native) } else { None }
    }

    /// Whether an immutable inode refuses a chown that names no id too.
    #[must_use]
    pub const fn locks_all(&self) -> bool {
        matches!(self, Self::Native(native) if native.locks_all())
    }

    /// Whether a chown that clears set-id bits leaves a set-group-id bit without group execute that the new group
    /// would not allow: overlay checks it as the actor and then lets the mounter do it (`ovl_setattr`).
    #[must_use]
    pub const fn clears_once(&self) -> bool {
        matches!(self, Self::Overlay)
    }

    /// Whether truncate(2) of a file that is empty already does nothing at all, set-id bits included.
    #[must_use]
    pub const fn skips_empty(&self) -> bool {
        matches!(self, Self::Native(native) if native.skips_empty())
    }

    /// Whether it keeps a link's target of `length` bytes; PATH_MAX is looked at elsewhere.
    #[must_use]
    pub const fn keeps_target(&self, length: usize) -> Support {
        match self {
            Self::Native(native) => native.keeps_target(length),
            Self::Tmpfs(_) | Self::Image | Self::Kernel(_) => Support::Yes,
            Self::Overlay
            | Self::Fat(_)
            | Self::Ntfs(_)
            | Self::Cifs(_)
            | Self::Nfs(_)
            | Self::Fuse(_)
            | Self::Remote(_) => {
                if length < 1024 {
                    return Support::Yes;
                }
                Support::Unknown("whether the file system below keeps a link target of that length")
            }
        }
    }

    /// Whether its superblock is read-only whatever the mount says.
    #[must_use]
    pub const fn is_read_only(&self) -> bool {
        matches!(self, Self::Image)
    }

    /// Whether the kernel alone decides, by the owners and modes that are stored.
    #[must_use]
    pub const fn is_local(&self) -> bool {
        matches!(
            self,
            Self::Native(_)
                | Self::Tmpfs(_)
                | Self::Overlay
                | Self::Image
                | Self::Fat(_)
                | Self::Ntfs(_)
                | Self::Kernel(_)
        )
    }

    /// Whether the last word about access is the server's, which may refuse what the kernel here grants.
    #[must_use]
    pub const fn has_server(&self) -> bool {
        matches!(self, Self::Cifs(_) | Self::Remote(_))
    }
}

/// An id in an option's value.
///
/// # Errors
/// It is invalid.
pub fn id(value: Option<&str>) -> Result<u32, OptionError> {
    value.and_then(|text| text.parse().ok()).ok_or(OptionError::Value("a numeric id"))
}

/// Octal bits in an option's value.
fn octal(value: Option<&str>) -> Result<Mode, OptionError> {
    value.and_then(|text| text.parse().ok()).ok_or(OptionError::Value("an octal mode"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn with(filesystem: &str, options: &[&str]) -> Personality {
        let mut personality = Personality::of(filesystem).unwrap();
        for option in options {
            personality.option(option).unwrap();
        }
        personality
    }

    #[test]
    fn what_a_filesystem_shows_follows_its_options() {
        let shown = with("vfat", &["uid=7101", "gid=7200", "umask=0027"]).shown().unwrap();
        assert_eq!((shown.uid.raw(), shown.gid.raw()), (7101, 7200));
        assert_eq!((shown.file, shown.directory), (Mode::new(0o750), Mode::new(0o750)));
        let shown = with("exfat", &["fmask=0133", "dmask=0022"]).shown().unwrap();
        assert_eq!((shown.file, shown.directory), (Mode::new(0o644), Mode::new(0o755)));
        let shown = with("cifs", &["uid=7101", "file_mode=0640", "dir_mode=0750"]).shown().unwrap();
        assert_eq!((shown.file, shown.directory), (Mode::new(0o640), Mode::new(0o750)));
        assert_eq!(with("ext4", &[]).shown(), None);
    }

    #[test]
    fn an_option_of_another_filesystem_is_none() {
        assert_eq!(with("ext4", &[]).option("uid=3"), Err(OptionError::Unknown));
        assert_eq!(with("vfat", &[]).option("uid=gauge"), Err(OptionError::Value("a numeric id")));
        assert_eq!(with("tmpfs", &[]).option("mode=9"), Err(OptionError::Value("an octal mode")));
        assert_eq!(Personality::of("mystery"), None);
    }

    #[test]
    fn the_groups_of_new_files_follow_the_process_unless_told() {
        assert_eq!(with("ext4", &[]).group_rule(), GroupRule::Process);
        assert_eq!(with("ext4", &["grpid"]).group_rule(), GroupRule::Directory);
        assert_eq!(with("xfs", &["bsdgroups"]).group_rule(), GroupRule::DirectoryUnlessSetGroupId);
        assert_eq!(with("xfs", &["grpid", "nogrpid"]).group_rule(), GroupRule::Process);
    }
}
