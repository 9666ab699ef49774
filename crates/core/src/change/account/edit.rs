//! One change in one pair of account files (docs/facts/tools.md section 3).

use mivask_model::accounts::{Accounts, GroupLine, UserLine};
use mivask_model::fact::Provenance;

use super::What;

/// Numbers of ordinary users and groups, as distributions set them.
const ORDINARY: std::ops::Range<u32> = 1000..60_001;
/// Numbers of those of the system.
const SYSTEM: std::ops::Range<u32> = 100..1000;

/// Makes the change; what the tools pick by themselves comes back in words.
pub(super) fn one(accounts: &mut Accounts, what: &What, from: &Provenance) -> Result<Option<String>, String> {
    match what {
        What::Joins(users, groups) => join(accounts, users, groups, from)?,
        What::OnlyGroups(groups, user) => only_groups(accounts, groups, user, from)?,
        What::Parts(user, group) => {
            let line = line(accounts, group)?;
            let Some(at) = line.members.iter().position(|name| name == user) else {
                return Err(format!("{user} is not a member of {group}"));
            };
            line.members.remove(at);
            line.from = from.clone();
        }
        What::PrimaryGroup(group, user) => {
            let gid = line(accounts, group)?.gid;
            let line = user_line(accounts, user)?;
            line.gid = gid;
            line.from = from.clone();
        }
        What::Adds(group, gid) => push(accounts, group, *gid, from)?,
        What::AddsNext(group, system) => {
            let taken: Vec<u32> = accounts.group.iter().flatten().map(|line| line.gid).collect();
            let gid = next(&taken, *system);
            push(accounts, group, gid, from)?;
            return Ok(Some(format!("{group} gets {gid}, as groupadd picks it")));
        }
        What::Renames(group, new) => {
            if line(accounts, new).is_ok() {
                return Err(format!("there is a group {new} already"));
            }
            let line = line(accounts, group)?;
            line.name = new.clone();
            line.from = from.clone();
        }
        What::Renumbers(group, gid) => renumber(accounts, group, *gid, from)?,
        What::Removes(group) => {
            line(accounts, group)?;
            if let Some(lines) = &mut accounts.group {
                lines.retain(|line| line.name != *group);
            }
        }
        What::AddsUser(user, given) => return add_user(accounts, user, given.as_ref(), from).map(Some),
        What::RenamesUser(user, new) => rename_user(accounts, user, new, from)?,
        What::RenumbersUser(user, uid) => {
            let line = user_line(accounts, user)?;
            line.uid = *uid;
            line.from = from.clone();
        }
        What::RemovesUser(user) => remove_user(accounts, user)?,
    }
    Ok(None)
}

/// Users become members of groups, both lists with commas.
fn join(accounts: &mut Accounts, users: &str, groups: &str, from: &Provenance) -> Result<(), String> {
    for user in users.split(',') {
        known(accounts, user)?;
        for group in groups.split(',') {
            let line = line(accounts, group)?;
            if !line.members.iter().any(|member| member == user) {
                line.members.push(user.to_owned());
            }
            line.from = from.clone();
        }
    }
    Ok(())
}

/// A user is a member of these groups and of no others.
fn only_groups(accounts: &mut Accounts, groups: &str, user: &str, from: &Provenance) -> Result<(), String> {
    known(accounts, user)?;
    let wanted: Vec<&str> = groups.split(',').filter(|group| !group.is_empty()).collect();
    wanted.iter().try_for_each(|group| line(accounts, group).map(drop))?;
    for line in accounts.group.iter_mut().flatten() {
        let is_wanted = wanted.iter().any(|group| *group == line.name);
        let at = line.members.iter().position(|member| member == user);
        match (at, is_wanted) {
            (Some(at), false) => drop(line.members.remove(at)),
            (None, true) => line.members.push(user.to_owned()),
            (Some(_), true) | (None, false) => continue,
        }
        line.from = from.clone();
    }
    Ok(())
}

/// Another name, in the member lists too.
fn rename_user(accounts: &mut Accounts, user: &str, new: &str, from: &Provenance) -> Result<(), String> {
    if known(accounts, new).is_ok() {
        return Err(format!("there is a user {new} already"));
    }
    let line = user_line(accounts, user)?;
    line.name = new.to_owned();
    line.from = from.clone();
    let members = accounts.group.iter_mut().flatten().flat_map(|line| &mut line.members);
    members.filter(|member| *member == user).for_each(|member| *member = new.to_owned());
    Ok(())
}

/// The number behind the highest one in use, or for the system below the lowest one.
fn next(taken: &[u32], system: bool) -> u32 {
    if system {
        let lowest = taken.iter().copied().filter(|id| SYSTEM.contains(id)).min();
        return lowest.map_or(SYSTEM.end - 1, |lowest| lowest - 1);
    }
    let highest = taken.iter().copied().filter(|id| ORDINARY.contains(id)).max();
    highest.map_or(ORDINARY.start, |highest| highest + 1)
}

fn push(accounts: &mut Accounts, group: &str, gid: u32, from: &Provenance) -> Result<(), String> {
    if line(accounts, group).is_ok_and(|line| line.name == group) {
        return Err(format!("there is a group {group} already"));
    }
    let line = GroupLine::new(group, gid, from.clone());
    accounts.group.get_or_insert_default().push(line);
    Ok(())
}

fn add_user(
    accounts: &mut Accounts,
    user: &str,
    given: Option<&(u32, Option<String>)>,
    from: &Provenance,
) -> Result<String, String> {
    if known(accounts, user).is_ok() {
        return Err(format!("there is a user {user} already"));
    }
    let uids: Vec<u32> = accounts.passwd.iter().flatten().map(|line| line.uid).collect();
    let uid = given.map_or_else(|| next(&uids, false), |(uid, _)| *uid);
    let gid = match given.and_then(|(_, group)| group.as_deref()) {
        Some(group) => match group.parse() {
            Ok(gid) => gid,
            Err(_) => line(accounts, group)?.gid,
        },
        None => {
            let gids: Vec<u32> = accounts.group.iter().flatten().map(|line| line.gid).collect();
            let gid = if gids.contains(&uid) { next(&gids, false) } else { uid };
            push(accounts, user, gid, from)?;
            gid
        }
    };
    let line = UserLine::new(user, uid, gid, from.clone());
    accounts.passwd.get_or_insert_default().push(line);
    Ok(format!("{user} is {uid}:{gid}"))
}

/// A group of the user's own goes along, unless others are in it.
fn remove_user(accounts: &mut Accounts, user: &str) -> Result<(), String> {
    let gid = user_line(accounts, user)?.gid;
    let users = accounts.passwd.get_or_insert_default();
    users.retain(|line| line.name != *user);
    let others = users.iter().any(|line| line.gid == gid);
    let groups = accounts.group.get_or_insert_default();
    groups.iter_mut().for_each(|line| line.members.retain(|member| member != user));
    groups.retain(|line| others || line.name != *user || line.gid != gid || !line.members.is_empty());
    Ok(())
}

/// The group and every user whose primary group it is get the new number, as groupmod does it.
fn renumber(accounts: &mut Accounts, group: &str, gid: u32, from: &Provenance) -> Result<(), String> {
    let line = line(accounts, group)?;
    let old = line.gid;
    line.gid = gid;
    line.from = from.clone();
    // groupmod -g changes the primary group of its users too; files keep the old number.
    for user in accounts.passwd.iter_mut().flatten().filter(|user| user.gid == old) {
        user.gid = gid;
        user.from = from.clone();
    }
    Ok(())
}

fn known(accounts: &Accounts, user: &str) -> Result<(), String> {
    accounts.user_by_name(user).map(drop).ok_or_else(|| format!("there is no user {user}"))
}

fn user_line<'a>(accounts: &'a mut Accounts, user: &str) -> Result<&'a mut UserLine, String> {
    let mut lines = accounts.passwd.iter_mut().flatten();
    lines.find(|line| line.name == *user).ok_or_else(|| format!("there is no user {user}"))
}

/// The line of a group, by name or number.
fn line<'a>(accounts: &'a mut Accounts, group: &str) -> Result<&'a mut GroupLine, String> {
    // Tools take a group's number where they take its name.
    let number = group.parse().ok();
    let lines = accounts.group.iter_mut().flatten();
    let mut found = lines.filter(|line| line.name == group || Some(line.gid) == number);
    found.next().ok_or_else(|| format!("there is no group {group}"))
}
