//! Changes of accounts: who belongs to which group, and which number a group has.

use std::sync::Arc;

use mivask_model::accounts::{Accounts, GroupLine};
use mivask_model::fact::Provenance;
use mivask_model::tree::Tree;
use mivask_stage::identity::Knowledge;
use mivask_stage::prepare::HOST;
use mivask_stage::scene::{Scene, Workload};

use super::numbers::hints;
use super::{Accounts as What, means};

/// One account database and what it is called.
type Database<'a> = (String, &'a mut Accounts);

/// Makes the change in every database of `whose` that knows the names; one must.
pub(super) fn change(
    scene: &mut Scene,
    workloads: &[Arc<Workload>],
    whose: &str,
    what: &What,
    notes: &mut Vec<String>,
) -> Result<(), String> {
    // Hints are about what the number meant before: afterwards it is the new group's.
    let before = scene.clone();
    let from = Provenance::Act(format!("{whose} {what}").into());
    let mut made = Vec::new();
    let mut problem = None;
    let mut old = Vec::new();
    for (label, accounts) in databases(scene, workloads, whose)? {
        if let What::Removes(name) | What::Renumbers(name, _) = what {
            old.extend(accounts.group_by_name(name).map(|(line, _)| line.gid));
        }
        match one(accounts, what, &from) {
            Ok(()) => made.push(label),
            // One image that lacks the name is no mistake as long as another one has it.
            Err(reason) => problem = Some(format!("{reason} ({label})")),
        }
    }
    if made.is_empty() {
        return Err(problem.unwrap_or_else(|| "the scene has no accounts".to_owned()));
    }
    notes.push(format!("`{whose} {what}` is made in the accounts of {}", made.join(", ")));
    let (gid, name) = match what {
        What::Adds(name, gid) | What::Renumbers(name, gid) => (Some(*gid), Some(name.as_str())),
        What::Joins(..) | What::Parts(..) | What::PrimaryGroup(..) | What::Renames(..) | What::Removes(_) => {
            (None, None)
        }
    };
    notes.extend(gid.into_iter().flat_map(|gid| hints(&before, gid, name)).map(|hint| hint.to_string()));
    old.sort_unstable();
    old.dedup();
    notes.extend(old.into_iter().filter_map(|gid| orphans(&before, gid)));
    Ok(())
}

/// The databases `whose` means, of which at least one was given.
fn databases<'a>(
    scene: &'a mut Scene,
    workloads: &[Arc<Workload>],
    whose: &str,
) -> Result<Vec<Database<'a>>, String> {
    let containers = workloads.iter().flat_map(|workload| {
        workload.containers.iter().map(move |container| (workload.name.as_str(), container))
    });
    let mut images = containers
        .filter(|(workload, container)| means(whose, workload, &container.name))
        .filter_map(|(_, container)| container.image.as_ref().map(|image| image.value.clone()));
    let only = images.next();
    if whose != HOST && only.is_none() {
        return Err(format!("the image that {whose} runs is not given"));
    }
    let wanted = |name: &String| whose == HOST || only.as_ref() == Some(name);
    let known =
        scene.images.iter_mut().filter(|(name, _)| wanted(name)).filter_map(|(name, image)| match &mut image
            .identity
            .accounts
        {
            Knowledge::Known(accounts) => Some((format!("image {name}"), accounts)),
            Knowledge::Unknown => None,
        });
    let mut all: Vec<Database<'a>> = known.collect();
    if whose == HOST
        && let Some(accounts) = &mut scene.host.accounts
    {
        all.push(("the host".to_owned(), accounts));
    }
    match (all.is_empty(), only) {
        (false, _) => Ok(all),
        (true, Some(image)) => Err(format!(
            "the accounts of image {image} are not given: add `images: {{ {image}: {{ accounts: ... }} }}`"
        )),
        (true, None) => Err("the scene has no accounts".to_owned()),
    }
}

fn one(accounts: &mut Accounts, what: &What, from: &Provenance) -> Result<(), String> {
    match what {
        What::Joins(user, group) => {
            known(accounts, user)?;
            let line = line(accounts, group)?;
            if !line.members.contains(user) {
                line.members.push(user.clone());
            }
            line.from = from.clone();
        }
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
            let lines = accounts.passwd.iter_mut().flatten();
            let Some(line) = lines.into_iter().find(|line| line.name == *user) else {
                return Err(format!("there is no user {user}"));
            };
            line.gid = gid;
            line.from = from.clone();
        }
        What::Adds(group, gid) => {
            if line(accounts, group).is_ok() {
                return Err(format!("there is a group {group} already"));
            }
            accounts.group.get_or_insert_default().push(GroupLine {
                name: group.clone(),
                gid: *gid,
                members: Vec::new(),
                from: from.clone(),
            });
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
    }
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

/// The line of a group, by name or number.
fn line<'a>(accounts: &'a mut Accounts, group: &str) -> Result<&'a mut GroupLine, String> {
    // Tools take a group's number where they take its name.
    let number = group.parse().ok();
    let lines = accounts.group.iter_mut().flatten();
    let mut found = lines.filter(|line| line.name == group || Some(line.gid) == number);
    found.next().ok_or_else(|| format!("there is no group {group}"))
}

/// Files that keep a number that no group has any more.
fn orphans(scene: &Scene, gid: u32) -> Option<String> {
    let mut all: Vec<(String, usize)> = Vec::new();
    let volumes = scene
        .volumes
        .iter()
        .filter_map(|(name, volume)| volume.tree.as_ref().map(|tree| (format!("volume {name}"), tree)));
    let images = scene
        .images
        .iter()
        .filter_map(|(name, image)| image.tree.as_ref().map(|tree| (format!("image {name}"), tree)));
    let host = scene.host.tree.iter().map(|tree| ("the host".to_owned(), tree));
    for (name, tree) in volumes.chain(images).chain(host) {
        let tree: &Arc<Tree> = tree;
        let count = tree.ids().filter(|id| tree.inode(*id).stored_owner().gid.raw() == gid).count();
        if count > 0 {
            all.push((name, count));
        }
    }
    let total: usize = all.iter().map(|(_, count)| count).sum();
    let places: Vec<String> = all.iter().map(|(name, count)| format!("{count} on {name}")).collect();
    let noun = if total == 1 { "file keeps" } else { "files keep" };
    (total > 0).then(|| format!("{total} {noun} the group {gid}: {}", places.join(", ")))
}
