//! What is on a built source.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use mivask_model::acl::Acl;
use mivask_model::ids::{DiskGid, DiskUid, KernelGid, KernelUid, MountIds};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::SourceId;
use rustix::fs::FileType;

/// One inode as it is on a source's file system.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Shown {
    /// The source.
    pub source: SourceId,
    /// The path from its root, empty for the root itself.
    pub path: PathBuf,
    /// What it is.
    pub kind: FileKind,
    /// Owner as stored; `None` where it has no stored form.
    pub uid: Option<DiskUid>,
    /// Group as stored.
    pub gid: Option<DiskGid>,
    /// Permission bits; those of a link mean nothing.
    pub mode: Mode,
    /// Its access ACL where it has one, with stored ids.
    pub acl: Option<Acl>,
    /// Whether it has file capabilities.
    pub is_capable: bool,
}

impl Shown {
    pub(crate) fn new(
        source: SourceId,
        path: PathBuf,
        full: &Path,
        facts: &fs::Metadata,
        layered: Option<&MountIds>,
    ) -> Self {
        let stored = |uid: u32, gid: u32| match layered {
            None => (Some(DiskUid::new(uid)), Some(DiskGid::new(gid))),
            Some(ids) => (ids.to_disk_uid(KernelUid::new(uid)), ids.to_disk_gid(KernelGid::new(gid))),
        };
        let (uid, gid) = stored(facts.uid(), facts.gid());
        let of_type = FileType::from_raw_mode(facts.mode());
        let kind = match of_type {
            FileType::Directory => FileKind::Directory,
            FileType::Symlink => FileKind::Link,
            FileType::Fifo => FileKind::Fifo,
            FileType::Socket => FileKind::Socket,
            FileType::CharacterDevice => FileKind::CharDevice,
            FileType::BlockDevice => FileKind::BlockDevice,
            FileType::RegularFile | FileType::Unknown => FileKind::File,
        };
        let mode = Mode::new(u16::try_from(facts.mode() & 0o7777).unwrap_or_default());
        let acl = crate::observe::acl_at(full, false).flatten();
        let is_capable = rustix::fs::lgetxattr(full, c"security.capability", &mut [0_u8; 64]).is_ok();
        Self { source, path, kind, uid, gid, mode, acl, is_capable }
    }
}
