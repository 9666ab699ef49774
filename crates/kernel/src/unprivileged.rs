//! Without root: a user namespace of our own, in which a part of all scenes can be rebuilt.

use std::fs;
use std::io::{Read, Write};
use std::os::fd::AsRawFd;

use crate::{Doing, KernelError, process, tool};

/// Puts the whole process, which must have one thread yet, into a user namespace where it is root.
///
/// Where `newuidmap` and `newgidmap` are installed and the user has subordinate ids (subuid(5)), ids from 1 on are
/// mapped to those; else root's alone. What is built on ids that are not mapped comes back as unsupported.
///
/// # Errors
/// The kernel gives unprivileged users no namespaces.
pub fn enter_user_namespace() -> Result<(), KernelError> {
    let uid = rustix::process::getuid().as_raw();
    let gid = rustix::process::getgid().as_raw();
    let me = std::process::id();
    let (mut wait_for, mut go) = std::io::pipe().doing(|| "making a pipe".to_owned())?;
    let (mut hear, mut say) = std::io::pipe().doing(|| "making a pipe".to_owned())?;
    // The helpers must be started from outside the namespace, so someone stays there.
    let pid = process::fork(|| {
        process::keep_only(&[wait_for.as_raw_fd(), say.as_raw_fd()]);
        let mapped = wait_for.read_exact(&mut [0]).is_ok() && map_subordinate_ids(me, uid, gid);
        let _ = say.write_all(&[u8::from(mapped)]);
    })?;
    drop(say);
    let entered = process::enter_user_namespace();
    if entered.is_ok() {
        let _ = go.write_all(b"!");
    }
    drop(go);
    let mut mapped = [0];
    let heard = hear.read_exact(&mut mapped);
    process::wait(pid)?;
    entered?;
    if heard.is_ok() && mapped == [1] {
        return Ok(());
    }
    fs::write("/proc/self/setgroups", "deny").doing(|| "giving up setgroups".to_owned())?;
    fs::write("/proc/self/uid_map", format!("0 {uid} 1")).doing(|| "mapping the user".to_owned())?;
    fs::write("/proc/self/gid_map", format!("0 {gid} 1")).doing(|| "mapping the group".to_owned())
}

/// Asks the set-user-id helpers of the system for the user's subordinate ids.
fn map_subordinate_ids(pid: u32, uid: u32, gid: u32) -> bool {
    let map = |tool: &str, file: &str, own: u32| {
        let Some(range) = subordinate(file, uid) else { return false };
        let numbers = [pid, 0, own, 1, 1, range.start, range.count].map(|number| number.to_string());
        tool::command(tool)
            .is_ok_and(|mut helper| helper.args(numbers).status().is_ok_and(|status| status.success()))
    };
    map("newuidmap", "/etc/subuid", uid) && map("newgidmap", "/etc/subgid", gid)
}

/// Ids that a user may map into namespaces of its own (subuid(5)).
struct SubordinateRange {
    start: u32,
    count: u32,
}

/// The first range of the user in `/etc/subuid` or `/etc/subgid`, whose lines are `NAME:START:COUNT`.
fn subordinate(file: &str, uid: u32) -> Option<SubordinateRange> {
    let name = fs::read_to_string("/etc/passwd").ok()?.lines().find_map(|line| {
        let fields: Vec<&str> = line.split(':').collect();
        (fields.get(2)?.parse() == Ok(uid)).then(|| fields[0].to_owned())
    })?;
    fs::read_to_string(file).ok()?.lines().find_map(|line| {
        let fields: Vec<&str> = line.split(':').collect();
        let &[owner, start, count] = fields.as_slice() else { return None };
        let mine = owner == name || owner.parse() == Ok(uid);
        if !mine {
            return None;
        }
        Some(SubordinateRange { start: start.parse().ok()?, count: count.parse().ok()? })
    })
}
