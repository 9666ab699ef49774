//! Without root: a user namespace of our own, in which a part of all scenes can be rebuilt.

use std::fs;
use std::io::{Read, Write};
use std::os::fd::AsRawFd;

use mivask_model::act::Act;
use mivask_model::ids::{Extent, IdMap, UserNamespace};
use mivask_stage::namespace::{Range, subordinate};
use mivask_stage::stage::Stage;

use crate::fitting::{Fitted, Own};
use crate::{Doing, KernelError, process, tool};

/// The maps in which the actors of `acts` can be rebuilt without root, where any has a user namespace of its own.
///
/// # Errors
/// Why the user's ids are too few.
pub fn fitted(stage: &Stage, acts: &[Act]) -> Result<Option<Fitted>, String> {
    let (users, groups) = own();
    Fitted::of(stage, acts, (&users, &groups)).transpose()
}

/// Puts the whole process, which must have one thread yet, into a user namespace where it has all capabilities.
///
/// Where `newuidmap` and `newgidmap` are installed and the user has subordinate ids (subuid(5)), it has the ids that
/// `fitted` has, else 0 for the user and all of these from 1 on; without them root's alone. What is built on ids that are
/// not mapped comes back as unsupported. Gives back whether it has those of `fitted`.
///
/// # Errors
/// The kernel gives unprivileged users no namespaces.
pub fn enter_user_namespace(fitted: Option<&Fitted>) -> Result<bool, KernelError> {
    let (users, groups) = own();
    let (uid, gid) = (users.id, groups.id);
    let plain = UserNamespace { uids: default_map(&users), gids: default_map(&groups) };
    let me = std::process::id();
    let (mut wait_for, mut go) = std::io::pipe().doing(|| "making a pipe".to_owned())?;
    let (mut hear, mut say) = std::io::pipe().doing(|| "making a pipe".to_owned())?;
    // The helpers must be started from outside the namespace, so someone stays there.
    let pid = process::fork(|| {
        process::keep_only(&[wait_for.as_raw_fd(), say.as_raw_fd()]);
        let waited = wait_for.read_exact(&mut [0]).is_ok();
        let is_fitted = waited && fitted.is_some_and(|fitted| map(me, &fitted.namespace));
        let mapped = is_fitted || waited && map(me, &plain);
        let _ = say.write_all(&[u8::from(mapped), u8::from(is_fitted)]);
    })?;
    drop(say);
    let entered = process::enter_user_namespace();
    if entered.is_ok() {
        let _ = go.write_all(b"!");
    }
    drop(go);
    let mut mapped = [0, 0];
    let heard = hear.read_exact(&mut mapped);
    process::wait(pid)?;
    entered?;
    if heard.is_ok() && mapped[0] == 1 {
        return Ok(mapped[1] == 1);
    }
    fs::write("/proc/self/setgroups", "deny").doing(|| "giving up setgroups".to_owned())?;
    fs::write("/proc/self/uid_map", format!("0 {uid} 1")).doing(|| "mapping the user".to_owned())?;
    fs::write("/proc/self/gid_map", format!("0 {gid} 1")).doing(|| "mapping the group".to_owned())?;
    Ok(false)
}

/// Asks the set-user-id helpers of the system for maps of ids that are the user's. A kernel that has one map of it takes no other.
fn map(pid: u32, ids: &UserNamespace) -> bool {
    let map = |tool: &str, map: &IdMap| {
        let lines = map.extents().iter().flat_map(|line| [line.inside, line.outside, line.count]);
        let numbers: Vec<String> =
            std::iter::once(pid).chain(lines).map(|number| number.to_string()).collect();
        tool::command(tool)
            .is_ok_and(|mut helper| helper.args(numbers).status().is_ok_and(|status| status.success()))
    };
    let several = |map: &IdMap| map.extents().len() > 1;
    several(&ids.uids) && several(&ids.gids) && map("newuidmap", &ids.uids) && map("newgidmap", &ids.gids)
}

/// The user, and all subordinate ids from 1 on.
fn default_map(own: &Own) -> IdMap {
    let mut extents = vec![Extent { inside: 0, outside: own.id, count: 1 }];
    let mut next: u32 = 1;
    for range in &own.ranges {
        let Some(end) = next.checked_add(range.count) else { break };
        extents.push(Extent { inside: next, outside: range.first, count: range.count });
        next = end;
    }
    IdMap::new(extents)
}

/// The ids that the user may map, in `/etc/subuid` and `/etc/subgid`.
fn own() -> (Own, Own) {
    let uid = rustix::process::getuid().as_raw();
    let gid = rustix::process::getgid().as_raw();
    let passwd = fs::read_to_string("/etc/passwd").unwrap_or_default();
    let name = passwd.lines().find_map(|line| {
        let fields: Vec<&str> = line.split(':').collect();
        (fields.get(2)?.parse() == Ok(uid)).then(|| fields[0].to_owned())
    });
    let ranges = |file: &str| -> Vec<Range> {
        let lines = subordinate(&fs::read_to_string(file).unwrap_or_default());
        let mine = lines
            .into_iter()
            .filter(|line| Some(&line.owner) == name.as_ref() || line.owner == uid.to_string());
        mine.map(|line| line.range).filter(|range| range.count > 0).collect()
    };
    (Own { id: uid, ranges: ranges("/etc/subuid") }, Own { id: gid, ranges: ranges("/etc/subgid") })
}
