//! What a file keeps when another takes its place: owner, mode, ACL and attributes.

use std::fs::{File, Permissions};
use std::os::unix::fs::{MetadataExt, PermissionsExt, fchown};

use rustix::fs::{XattrFlags, fgetxattr, flistxattr, fsetxattr};
use rustix::io::Errno;

use super::place::There;

/// Bytes of a list of names, or of a value, at most (`XATTR_LIST_MAX`, `XATTR_SIZE_MAX`).
const MOST: usize = 1 << 16;

/// Gives `new` what `there` has; whether all of it could be given.
pub(super) fn take_over(new: &File, there: &There) -> bool {
    let (uid, gid) = (there.facts.uid(), there.facts.gid());
    let owners = new.metadata().is_ok_and(|facts| (facts.uid(), facts.gid()) == (uid, gid));
    if !owners && fchown(new, Some(uid), Some(gid)).is_err() {
        return false;
    }
    // A change of owner takes set-id bits, so the mode comes behind it.
    new.set_permissions(Permissions::from_mode(there.facts.mode() & 0o7777)).is_ok()
        && attributes(new, &there.file)
}

/// Copies the ACL and the user's attributes; what the kernel works out from the content, or gives every new file, is left to it.
fn attributes(new: &File, there: &File) -> bool {
    let Some(names) = names(there) else { return false };
    names.iter().all(|name| {
        let meant = name == "system.posix_acl_access" || name.starts_with("user.");
        if !meant {
            // A label that the policy gives here anyway need not be set; where it may not be, the new file has its default.
            if name.starts_with("security.selinux") {
                let _ = copy(new, there, name);
            }
            return true;
        }
        copy(new, there, name)
    })
}

fn names(file: &File) -> Option<Vec<String>> {
    let mut list = vec![0_u8; MOST];
    let size = match flistxattr(file, &mut list[..]) {
        Ok(size) => size,
        // A file system without attributes has none to keep.
        Err(Errno::OPNOTSUPP | Errno::NOSYS) => 0,
        Err(_) => return None,
    };
    let names = list[..size].split(|byte| *byte == 0).filter(|name| !name.is_empty());
    Some(names.map(|name| String::from_utf8_lossy(name).into_owned()).collect())
}

fn copy(new: &File, there: &File, name: &str) -> bool {
    let mut value = vec![0_u8; MOST];
    let Ok(size) = fgetxattr(there, name, &mut value[..]) else { return false };
    fsetxattr(new, name, &value[..size], XattrFlags::empty()).is_ok()
}
