//! Rebuilding an actor's mounts on tmpfs.

use std::collections::BTreeMap;
use std::collections::btree_map::Entry;
use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::{PoisonError, RwLock};

use mivask_core::mode::FileKind;
use mivask_core::mount::{Mount, MountFlags, MountTable, Source, SourceId};
use mivask_core::stage::Stage;
use mivask_core::tree::{Content, InodeId, Marks, Tree};
use rustix::fs::{AtFlags, CWD, FileType, IFlags, Mode, OFlags, XattrFlags};
use rustix::mount::{MountFlags as RawFlags, UnmountFlags};
use rustix::process::{Gid, Uid};

use crate::{Doing, KernelError, PROGRAM, xattr};

/// A child between fork and execve holds copies of every file that other threads have open for writing; that would
/// make a program of theirs busy (ETXTBSY) and a superblock of theirs refuse to become read-only (EBUSY). So nobody forks
/// while somebody builds.
static BUILDING: RwLock<()> = RwLock::new(());

/// Keeps every other thread from building until it is dropped.
pub(crate) fn nobody_builds() -> impl Drop {
    BUILDING.write().unwrap_or_else(PoisonError::into_inner)
}

/// Builds the mounts below `scratch` and gives the folder that is the actor's root.
pub(crate) fn world(stage: &Stage, mounts: &MountTable, scratch: &Path) -> Result<PathBuf, KernelError> {
    let _building = BUILDING.read().unwrap_or_else(PoisonError::into_inner);
    rustix::mount::mount("tmpfs", scratch, "tmpfs", RawFlags::empty(), None)
        .doing(|| "mounting the scratch tmpfs".to_owned())?;
    let root = scratch.join("root");
    fs::create_dir(&root).doing(|| "making the root".to_owned())?;
    let mut stores: BTreeMap<SourceId, Store> = BTreeMap::new();
    for (index, (_, mount)) in mounts.iter().enumerate() {
        let id = mount.variants[0].source;
        if mount.variants.len() > 1 {
            return Err(KernelError::Unsupported(format!(
                "the source of {} is not settled",
                String::from_utf8_lossy(&mount.at)
            )));
        }
        let store = match stores.entry(id) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(free) => {
                free.insert(store(stage.source(id), &scratch.join(format!("store-{index}")))?)
            }
        };
        attach(store, mount, &root)?;
    }
    for (id, store) in &stores {
        if stage.source(*id).read_only {
            rustix::mount::mount_remount(&store.folder, RawFlags::RDONLY, "")
                .doing(|| format!("making the superblock of {} read-only", stage.source(*id).name))?;
        }
    }
    Ok(root)
}

/// Detaches everything that [`world`] mounted.
pub(crate) fn take_down(scratch: &Path) -> Result<(), KernelError> {
    rustix::mount::unmount(scratch, UnmountFlags::DETACH).doing(|| "detaching the scratch tmpfs".to_owned())
}

/// A tmpfs that holds one source, with the first path of each inode.
struct Store {
    folder: PathBuf,
    paths: BTreeMap<InodeId, PathBuf>,
}

fn attach(store: &Store, mount: &Mount, root: &Path) -> Result<(), KernelError> {
    let relative = mount.at.iter().position(|byte| *byte != b'/').map_or(&[][..], |start| &mount.at[start..]);
    let at = root.join(OsStr::from_bytes(relative));
    let from = store
        .paths
        .get(&mount.root.ok_or_else(|| KernelError::Unsupported("a mount of nobody knows what".to_owned()))?)
        .ok_or_else(|| KernelError::Unsupported("a mount of a lost inode".to_owned()))?;
    rustix::mount::mount_bind(from, &at).doing(|| format!("binding {}", at.display()))?;
    let flags = raw_flags(mount.flags);
    rustix::mount::mount_remount(&at, RawFlags::BIND | flags, "")
        .doing(|| format!("setting flags of {}", at.display()))
}

fn raw_flags(flags: MountFlags) -> RawFlags {
    let pairs = [
        (MountFlags::READ_ONLY, RawFlags::RDONLY),
        (MountFlags::NO_EXEC, RawFlags::NOEXEC),
        (MountFlags::NO_SUID, RawFlags::NOSUID),
        (MountFlags::NO_DEV, RawFlags::NODEV),
        // MS_NOSYMFOLLOW, which the library has no name for.
        (MountFlags::NO_SYMFOLLOW, RawFlags::from_bits_retain(256)),
    ];
    pairs.into_iter().filter(|(flag, _)| flags.has(*flag)).map(|(_, raw)| raw).collect()
}

fn store(source: &Source, folder: &Path) -> Result<Store, KernelError> {
    fs::create_dir(folder).doing(|| "making a store".to_owned())?;
    rustix::mount::mount("tmpfs", folder, "tmpfs", RawFlags::empty(), Some(c"mode=755"))
        .doing(|| "mounting a store".to_owned())?;
    let mut store = Store { folder: folder.to_path_buf(), paths: BTreeMap::new() };
    store.paths.insert(Tree::ROOT, folder.to_path_buf());
    fill(&source.tree, Tree::ROOT, folder, &mut store)?;
    // Owners last and from the leaves up, so that nothing stands in the way of the filling.
    for (id, path) in &store.paths {
        dress(&source.tree, *id, path)?;
    }
    for (id, path) in store.paths.iter().rev() {
        set_attributes(source.tree.inode(*id).marks, path)?;
    }
    Ok(store)
}

fn fill(tree: &Tree, dir: InodeId, folder: &Path, store: &mut Store) -> Result<(), KernelError> {
    for (name, id) in tree.children(dir) {
        let path = folder.join(OsStr::from_bytes(name));
        if let Some(first) = store.paths.get(&id) {
            fs::hard_link(first, &path).doing(|| format!("linking {}", path.display()))?;
            continue;
        }
        make(tree, id, &path)?;
        store.paths.insert(id, path.clone());
        if tree.inode(id).kind == FileKind::Directory {
            fill(tree, id, &path, store)?;
        }
    }
    Ok(())
}

fn make(tree: &Tree, id: InodeId, path: &Path) -> Result<(), KernelError> {
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
    made.doing(|| format!("making {}", path.display()))
}

fn content(content: &Content) -> Vec<u8> {
    match content {
        Content::Program | Content::Unknown => PROGRAM.to_vec(),
        Content::Data => b"no format the kernel knows\n".to_vec(),
        Content::Empty => Vec::new(),
        Content::Script(interpreter) => [b"#!", &**interpreter, b"\n"].concat(),
    }
}

/// Owner, mode and ACLs; the mode after the owner, since chown clears set-id bits.
fn dress(tree: &Tree, id: InodeId, path: &Path) -> Result<(), KernelError> {
    let inode = tree.inode(id);
    let (uid, gid) = (Uid::from_raw(inode.uid.raw()), Gid::from_raw(inode.gid.raw()));
    rustix::fs::chownat(CWD, path, Some(uid), Some(gid), AtFlags::SYMLINK_NOFOLLOW)
        .doing(|| format!("chown of {}", path.display()))?;
    if inode.kind == FileKind::Link {
        return Ok(());
    }
    let set = |name: &str, acl| {
        rustix::fs::setxattr(path, name, &xattr::encode(acl), XattrFlags::empty())
            .doing(|| format!("ACL of {}", path.display()))
    };
    tree.acl(id).map_or(Ok(()), |acl| set(xattr::ACCESS, acl))?;
    tree.default_acl(id).map_or(Ok(()), |acl| set(xattr::DEFAULT, acl))?;
    let mode = Mode::from_raw_mode(u32::from(inode.mode.bits()));
    rustix::fs::chmodat(CWD, path, mode, AtFlags::empty()).doing(|| format!("chmod of {}", path.display()))
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
    let file = rustix::fs::open(path, OFlags::RDONLY | OFlags::NONBLOCK, Mode::empty())
        .doing(|| format!("opening {}", path.display()))?;
    rustix::fs::ioctl_setflags(&file, flags).doing(|| format!("attributes of {}", path.display()))
}
