//! An overlay of a lower and an upper layer.

use std::collections::BTreeMap;
use std::ffi::CString;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use mivask_model::ids::{DiskGid, DiskUid, KernelGid, KernelUid, MountIds};
use mivask_model::tree::{InodeId, Tree};
use rustix::mount::{MountFlags, UnmountFlags};

use crate::store::{self, Part};
use crate::{Doing, KernelError, id_map, namespace};

/// Makes the layers of `tree` in `folder` and mounts them at `root`; gives the first path of each inode there.
///
/// An overlay takes no id map, but a lower layer does: that is how runtimes give a container in a user namespace
/// its image. What is in the upper layer is the container's own and is stored with its kernel ids.
pub(crate) fn build(
    tree: &Tree,
    folder: &Path,
    root: &Path,
    ids: &MountIds,
) -> Result<BTreeMap<InodeId, PathBuf>, KernelError> {
    let [lower, upper, work] = ["lower", "upper", "work"].map(|name| folder.join(name));
    {
        let _building = namespace::nobody_forks();
        for layer in [&lower, &upper, &work] {
            fs::create_dir(layer).doing(|| format!("making {}", layer.display()))?;
        }
        store::fill(tree, &lower, Part::Lower)?;
    }
    mount(&lower, &upper, &work, root)?;
    let paths = {
        let _building = namespace::nobody_forks();
        store::fill(tree, root, Part::Rest)?
    };
    if *ids != MountIds::default() {
        rustix::mount::unmount(root, UnmountFlags::empty()).doing(|| "unmounting an overlay".to_owned())?;
        shift(&upper, ids)?;
        let mapped = folder.join("mapped");
        fs::create_dir(&mapped).doing(|| "making a folder".to_owned())?;
        id_map::bind(&lower, &mapped, ids)?;
        mount(&mapped, &upper, &work, root)?;
    }
    Ok(paths)
}

/// Gives everything in the upper layer the owners that the map shows.
fn shift(path: &Path, ids: &MountIds) -> Result<(), KernelError> {
    let facts = fs::symlink_metadata(path).doing(|| format!("looking at {}", path.display()))?;
    let uid = ids.to_kernel_uid(DiskUid::new(facts.uid())).map(KernelUid::raw);
    let gid = ids.to_kernel_gid(DiskGid::new(facts.gid())).map(KernelGid::raw);
    if uid.is_none() || gid.is_none() {
        let text = format!("{} in the upper layer has an owner outside the map", path.display());
        return Err(KernelError::Unsupported(text));
    }
    std::os::unix::fs::lchown(path, uid, gid).doing(|| format!("chown of {}", path.display()))?;
    if !facts.is_symlink() && facts.mode() & 0o6000 != 0 {
        fs::set_permissions(path, facts.permissions()).doing(|| format!("chmod of {}", path.display()))?;
    }
    if facts.is_dir() {
        let entries = fs::read_dir(path).doing(|| format!("listing {}", path.display()))?;
        for entry in entries {
            shift(&entry.doing(|| format!("listing {}", path.display()))?.path(), ids)?;
        }
    }
    Ok(())
}

fn mount(lower: &Path, upper: &Path, work: &Path, root: &Path) -> Result<(), KernelError> {
    let folders =
        format!("lowerdir={},upperdir={},workdir={}", lower.display(), upper.display(), work.display());
    let mount = |options: &str| {
        let options = CString::new(format!("{folders},{options}")).unwrap_or_default();
        rustix::mount::mount("overlay", root, "overlay", MountFlags::empty(), Some(options.as_c_str()))
    };
    match mount("redirect_dir=off,index=off,metacopy=off") {
        // In a user namespace the overlay keeps its notes where that namespace's root may write; it then follows no
        // redirects and takes no word on them.
        Err(rustix::io::Errno::PERM) => mount("userxattr,index=off"),
        mounted => mounted,
    }
    .doing(|| "mounting an overlay".to_owned())
}
