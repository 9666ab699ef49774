//! Rebuilding one source's tree in real folders.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use mivask_model::mode::FileKind;
use mivask_model::tree::{Content, InodeId, Marks, Tree};
use mivask_model::xattr;
use rustix::fs::{AtFlags, CWD, FileType, IFlags, Mode, OFlags, XattrFlags};
use rustix::process::{Gid, Uid};

use crate::{Doing, KernelError, PROGRAM};

/// Which inodes of a tree are made.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Part {
    /// Every one.
    All,
    /// Those of an overlay's lower layer.
    Lower,
    /// The others, through the mounted overlay that shows the lower ones already, so that what belongs to both
    /// layers is copied up as in real life.
    Rest,
}

impl Part {
    /// Whether an inode with these marks is made.
    const fn makes(self, marks: Marks) -> bool {
        match self {
            Self::All => true,
            Self::Lower => marks.has(Marks::LOWER),
            Self::Rest => !marks.has(Marks::LOWER),
        }
    }

    /// Whether it is given its owner, mode and attributes.
    const fn dresses(self, marks: Marks) -> bool {
        self.makes(marks) || matches!(self, Self::Rest) && marks.has(Marks::MERGED)
    }

    /// Whether it is given its attributes: those of a directory in both layers are the upper one's.
    const fn locks(self, marks: Marks) -> bool {
        self.dresses(marks) && !(matches!(self, Self::Lower) && marks.has(Marks::MERGED))
    }
}

/// Makes a part of `tree` in `folder`; gives the first path of each inode that is there then.
pub(crate) fn fill(
    tree: &Tree,
    folder: &Path,
    part: Part,
) -> Result<BTreeMap<InodeId, PathBuf>, KernelError> {
    let mut filler = Filler { tree, part, paths: BTreeMap::new() };
    filler.paths.insert(Tree::ROOT, folder.to_path_buf());
    filler.directory(Tree::ROOT, folder)?;
    // Owners last and from the leaves up, so that nothing is in the way of the filling.
    let marks = |id: &InodeId| tree.inode(*id).marks;
    // An overlay's root shows the upper one.
    let dressed = |id: &InodeId| part.dresses(marks(id)) || *id == Tree::ROOT;
    for (id, path) in filler.paths.iter().filter(|(id, _)| dressed(id)) {
        if part == Part::Rest {
            undress(tree.inode(*id).kind, path);
        }
        dress(tree, *id, path)?;
    }
    for (id, path) in filler.paths.iter().rev().filter(|(id, _)| part.locks(marks(id))) {
        set_attributes(marks(id), path)?;
    }
    Ok(filler.paths)
}

struct Filler<'a> {
    tree: &'a Tree,
    part: Part,
    paths: BTreeMap<InodeId, PathBuf>,
}

impl Filler<'_> {
    fn directory(&mut self, dir: InodeId, folder: &Path) -> Result<(), KernelError> {
        let tree = self.tree;
        for (name, id) in tree.children(dir) {
            let path = folder.join(OsStr::from_bytes(name));
            let inode = tree.inode(id);
            let makes = self.part.makes(inode.marks);
            if self.part == Part::Lower && !makes {
                continue;
            }
            if self.part != Part::All
                && inode.marks.has(Marks::LOWER)
                && !tree.inode(dir).marks.has(Marks::LOWER)
            {
                let text = format!("{} is in a lower layer, its directory does not", path.display());
                return Err(KernelError::Unsupported(text));
            }
            if let Some(first) = self.paths.get(&id) {
                if makes {
                    fs::hard_link(first, &path).doing(|| format!("linking {}", path.display()))?;
                }
                continue;
            }
            if makes && !make(tree, id, &path)? {
                continue;
            }
            self.paths.insert(id, path.clone());
            if inode.kind == FileKind::Directory {
                self.directory(id, &path)?;
            }
        }
        Ok(())
    }
}

/// Makes one inode; whether it did: no one makes devices in a user namespace, so they are left out there.
fn make(tree: &Tree, id: InodeId, path: &Path) -> Result<bool, KernelError> {
    let mode = Mode::from_raw_mode(0o600);
    let node = |kind| {
        let device = tree.device(id).map_or(0, |device| rustix::fs::makedev(device.major, device.minor));
        rustix::fs::mknodat(CWD, path, kind, mode, device).map_err(Into::into)
    };
    let made: std::io::Result<()> = match tree.inode(id).kind {
        FileKind::File => fs::write(path, content(tree.content(id))),
        FileKind::Directory => fs::create_dir(path),
        FileKind::Link => {
            std::os::unix::fs::symlink(OsStr::from_bytes(tree.target(id).unwrap_or_default()), path)
        }
        FileKind::Fifo => node(FileType::Fifo),
        FileKind::Socket => node(FileType::Socket),
        FileKind::CharDevice => node(FileType::CharacterDevice),
        FileKind::BlockDevice => node(FileType::BlockDevice),
    };
    if let Err(error) = &made
        && tree.inode(id).kind.is_device()
        && error.kind() == std::io::ErrorKind::PermissionDenied
    {
        return Ok(false);
    }
    made.doing(|| format!("making {}", path.display())).map(|()| true)
}

fn content(content: &Content) -> Vec<u8> {
    match content {
        Content::Program | Content::Unknown => PROGRAM.to_vec(),
        Content::Data => b"no format the kernel knows\n".to_vec(),
        Content::Empty => Vec::new(),
        Content::Script(interpreter) => [b"#!", &**interpreter, b"\n"].concat(),
    }
}

/// Owner, mode, ACLs and file capabilities; the mode after the owner, since chown clears set-id bits.
fn dress(tree: &Tree, id: InodeId, path: &Path) -> Result<(), KernelError> {
    let inode = tree.inode(id);
    let uid = Uid::from_raw(inode.stored_owner().uid.raw());
    let gid = Gid::from_raw(inode.stored_owner().gid.raw());
    rustix::fs::chownat(CWD, path, Some(uid), Some(gid), AtFlags::SYMLINK_NOFOLLOW)
        .doing(|| format!("chown of {}", path.display()))?;
    if inode.kind == FileKind::Link {
        return Ok(());
    }
    let set = |name: &str, value: &[u8]| {
        rustix::fs::setxattr(path, name, value, XattrFlags::empty())
            .doing(|| format!("{name} of {}", path.display()))
    };
    tree.acl(id).map_or(Ok(()), |acl| set(xattr::ACCESS, &xattr::encode(acl)))?;
    tree.default_acl(id).map_or(Ok(()), |acl| set(xattr::DEFAULT, &xattr::encode(acl)))?;
    let mode = Mode::from_raw_mode(u32::from(inode.stored_mode().bits()));
    rustix::fs::chmodat(CWD, path, mode, AtFlags::empty())
        .doing(|| format!("chmod of {}", path.display()))?;
    let capabilities = tree.capabilities(id);
    capabilities.map_or(Ok(()), |caps| set(xattr::CAPABILITIES, &xattr::encode_capabilities(Some(caps))))
}

/// Removes the ACLs that something made below a default ACL inherited.
fn undress(kind: FileKind, path: &Path) {
    if kind != FileKind::Link {
        // There may be none.
        let _ = rustix::fs::removexattr(path, xattr::ACCESS);
        let _ = rustix::fs::removexattr(path, xattr::DEFAULT);
    }
}

fn set_attributes(marks: Marks, path: &Path) -> Result<(), KernelError> {
    let mut flags = IFlags::empty();
    if marks.has(Marks::IMMUTABLE) {
        flags |= IFlags::IMMUTABLE;
    }
    if marks.has(Marks::APPEND_ONLY) {
        flags |= IFlags::APPEND;
    }
    if flags.is_empty() {
        return Ok(());
    }
    set_flags(path, flags)
}

fn set_flags(path: &Path, flags: IFlags) -> Result<(), KernelError> {
    let file = rustix::fs::open(path, OFlags::RDONLY | OFlags::NONBLOCK, Mode::empty())
        .doing(|| format!("opening {}", path.display()))?;
    let old = rustix::fs::ioctl_getflags(&file).unwrap_or(IFlags::empty());
    // `difference` keeps bits the library has no name for, such as the one for extents, which must stay.
    let kept = old.difference(IFlags::IMMUTABLE | IFlags::APPEND);
    rustix::fs::ioctl_setflags(&file, kept.union(flags)).doing(|| format!("attributes of {}", path.display()))
}

/// Removes a folder with everything in it, whatever its attributes.
pub(crate) fn remove(folder: &Path, tree: &Tree) -> Result<(), KernelError> {
    let marked = |id: InodeId| {
        let marks = tree.inode(id).marks;
        marks.has(Marks::IMMUTABLE) || marks.has(Marks::APPEND_ONLY)
    };
    if tree.ids().any(marked) {
        unlock(folder)?;
    }
    fs::remove_dir_all(folder).doing(|| format!("removing {}", folder.display()))
}

/// Clears the attributes of files and directories in `folder`.
fn unlock(folder: &Path) -> Result<(), KernelError> {
    set_flags(folder, IFlags::empty())?;
    let entries = fs::read_dir(folder).doing(|| format!("listing {}", folder.display()))?;
    for entry in entries {
        let entry = entry.doing(|| format!("listing {}", folder.display()))?;
        let kind = entry.file_type().doing(|| format!("looking at {}", entry.path().display()))?;
        if kind.is_dir() {
            unlock(&entry.path())?;
        } else if kind.is_file() {
            set_flags(&entry.path(), IFlags::empty())?;
        }
    }
    Ok(())
}
