//! Changes of accounts: who belongs to which group, and which numbers users and groups have.

mod edit;
mod home;
mod remarks;

use std::sync::Arc;

use mivask_model::accounts::Accounts;
use mivask_model::fact::Provenance;
use mivask_model::tree::Tree;
use mivask_stage::identity::Knowledge;
use mivask_stage::prepare::HOST;
use mivask_stage::scene::{Scene, Workload};

use super::numbers::hints;
use super::{Accounts as What, means};
use edit::one;

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
    let mut added: Vec<String> = Vec::new();
    let mut old = Vec::new();
    for (label, accounts) in databases(scene, workloads, whose)? {
        if let What::Removes(name) | What::Renumbers(name, _) = what {
            old.extend(accounts.group_by_name(name).map(|(line, _)| (false, line.gid)));
        } else if let What::RemovesUser(name) | What::RenumbersUser(name, _) = what {
            old.extend(accounts.user_by_name(name).map(|(line, _)| (true, line.uid)));
        }
        added.extend(remarks::of_tools(accounts, what));
        match one(accounts, what, &from) {
            Ok(said) => {
                added.extend(said);
                made.push(label);
            }
            // One image that lacks the name is no mistake as long as another one has it.
            Err(reason) => problem = Some(format!("{reason} ({label})")),
        }
    }
    if made.is_empty() {
        return Err(problem.unwrap_or_else(|| "the scene has no accounts".to_owned()));
    }
    added.insert(0, format!("`{whose} {what}` is made in the accounts of {}", made.join(", ")));
    let numbered =
        if let What::Adds(name, gid) | What::Renumbers(name, gid) = what { Some((name, gid)) } else { None };
    let found = numbered.into_iter().flat_map(|(name, gid)| hints(&before, *gid, Some(name)));
    added.extend(found.map(|hint| hint.to_string()));
    added.extend(home::follows(scene, &before, whose, what, &from));
    old.sort_unstable();
    old.dedup();
    let new = if let What::Renumbers(_, id) | What::RenumbersUser(_, id) = what { Some(*id) } else { None };
    added.extend(old.into_iter().filter_map(|(is_user, id)| orphans(scene, is_user, id, new)));
    added.extend(remarks::without_effect(scene, workloads, whose, what));
    for (at, note) in added.iter().enumerate() {
        if !added[..at].contains(note) {
            notes.push(note.clone());
        }
    }
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

/// Files that keep a number that no user or group has any more; `new` is the one that took its place.
fn orphans(scene: &Scene, is_user: bool, id: u32, new: Option<u32>) -> Option<String> {
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
        let owner = |inode| {
            let owner = tree.inode(inode).stored_owner();
            if is_user { owner.uid.raw() } else { owner.gid.raw() }
        };
        let count = tree.ids().filter(|inode| owner(*inode) == id).count();
        if count > 0 {
            all.push((name, count));
        }
    }
    let total: usize = all.iter().map(|(_, count)| count).sum();
    let places: Vec<String> = all.iter().map(|(name, count)| format!("{count} on {name}")).collect();
    let noun = if total == 1 { "file keeps" } else { "files keep" };
    let (what, option, tool) = if is_user { ("user", "-uid", "chown") } else { ("group", "-gid", "chgrp") };
    let repair = match new {
        Some(new) => {
            format!("`find / -xdev {option} {id} -exec {tool} -h {new} {{}} +` gives them the new one")
        }
        None => format!("`find / -xdev {option} {id}` lists them"),
    };
    (total > 0).then(|| format!("{total} {noun} the {what} {id}: {}; {repair}", places.join(", ")))
}
