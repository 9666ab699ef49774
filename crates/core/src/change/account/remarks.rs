//! What to know about a change of accounts: what the tools refuse, what is lost, and whom it leaves as he is.

use std::sync::Arc;

use mivask_model::accounts::Accounts;
use mivask_stage::identity::Knowledge;
use mivask_stage::prepare::HOST;
use mivask_stage::scene::{Container, Scene, Who, Workload};

use super::{What, means};

/// What the account tools say to it; the sentence is made all the same.
pub(super) fn of_tools(accounts: &Accounts, what: &What) -> Vec<String> {
    let user_of = |uid: u32, but: &str| {
        let mut lines = accounts.passwd.iter().flatten();
        lines.find(|line| line.uid == uid && line.name != but).map(|line| line.name.clone())
    };
    let group_of = |gid: u32, but: &str| {
        let mut lines = accounts.group.iter().flatten();
        lines.find(|line| line.gid == gid && line.name != but).map(|line| line.name.clone())
    };
    let refused = |why: String| vec![format!("the account tools refuse that: {why}")];
    if let What::Adds(name, gid) | What::Renumbers(name, gid) = what {
        return group_of(*gid, name)
            .map_or_else(Vec::new, |other| refused(format!("{gid} is the group {other}")));
    }
    if let What::AddsUser(name, Some((uid, _))) | What::RenumbersUser(name, uid) = what {
        return user_of(*uid, name)
            .map_or_else(Vec::new, |other| refused(format!("{uid} is the user {other}")));
    }
    if let What::Removes(name) = what {
        let gid = accounts.group_by_name(name).map(|(line, _)| line.gid);
        let primary = accounts.passwd.iter().flatten().find(|line| Some(line.gid) == gid);
        return primary
            .map_or_else(Vec::new, |line| refused(format!("it is the primary group of {}", line.name)));
    }
    if let What::OnlyGroups(groups, user) = what {
        let kept: Vec<&str> = groups.split(',').collect();
        let lost: Vec<String> = accounts
            .memberships(user)
            .map(|(line, _)| line.name.clone())
            .filter(|name| !kept.contains(&name.as_str()))
            .collect();
        if !lost.is_empty() {
            let lost = mivask_model::listed::listed(&lost);
            return vec![format!(
                "{user} loses {lost}: `usermod -G` without -a, where `joins` adds to what is there"
            )];
        }
    }
    Vec::new()
}

/// Whose identity the change cannot reach, though it runs as that user.
pub(super) fn without_effect(
    scene: &Scene,
    workloads: &[Arc<Workload>],
    whose: &str,
    what: &What,
) -> Vec<String> {
    let (What::Joins(users, _) | What::OnlyGroups(_, users) | What::Parts(users, _)) = what else {
        return Vec::new();
    };
    let containers = workloads.iter().flat_map(|workload| {
        let own = workload.containers.iter();
        own.filter(|container| whose == HOST || means(whose, &workload.name, &container.name))
    });
    let mut all = Vec::new();
    for container in containers.filter(|container| !container.on_host) {
        for user in users.split(',') {
            all.extend(unreached(scene, container, user));
        }
    }
    all
}

/// Why memberships of `user` do not count for a container that runs as it.
fn unreached(scene: &Scene, container: &Container, user: &str) -> Option<String> {
    let image = scene.images.get(&container.image.as_ref()?.value)?;
    let Knowledge::Known(accounts) = &image.identity.accounts else { return None };
    let (line, _) = accounts.user_by_name(user)?;
    let Who::Plain(plain) = &container.who else { return None };
    let of_image = match &image.identity.user {
        Knowledge::Known(user) => user.as_ref().map(|user| user.value.as_str()),
        Knowledge::Unknown => None,
    };
    let given =
        plain.user.as_ref().map(|user| user.value.as_str()).filter(|text| !text.is_empty()).or(of_image)?;
    let (name, group) = given.split_once(':')?;
    let same = name == user || name.parse() == Ok(line.uid);
    (same && !group.is_empty()).then(|| {
        format!(
            "{} runs as {given}: the group beside the user leaves out what the group file says of {user}",
            container.name
        )
    })
}
