//! Changes of accounts as the tools for them take them.

use mivask_model::accounts::Accounts;
use mivask_stage::identity::Knowledge;
use mivask_stage::prepare::HOST;
use mivask_stage::scene::Scene;

use super::Typed;
use crate::change::Accounts as What;

/// One change of accounts.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct AccountLine {
    /// Whose accounts: `host`, or an actor of whose image they are.
    pub whose: String,
    /// What is different.
    pub what: What,
}

/// What makes a change, or takes it back, where the accounts were `before`.
pub(super) fn lines(before: &Scene, whose: &str, what: &What, there: bool) -> Vec<Typed> {
    let line = |what| Typed::Account(AccountLine { whose: whose.to_owned(), what });
    if there {
        return vec![line(what.clone())];
    }
    let was = accounts(before, whose);
    let group = |name: &str| was?.group_by_name(name).map(|(line, _)| line.clone());
    let is_member =
        |user: &str, name: &str| group(name).is_some_and(|line| line.members.iter().any(|one| one == user));
    match what {
        What::Joins(user, name) if is_member(user, name) => Vec::new(),
        What::Joins(user, name) => vec![line(What::Parts(user.clone(), name.clone()))],
        What::Parts(user, name) => vec![line(What::Joins(user.clone(), name.clone()))],
        What::PrimaryGroup(_, user) => {
            let gid = was.and_then(|was| was.user_by_name(user)).map(|(line, _)| line.gid);
            let named = was.zip(gid).and_then(|(was, gid)| {
                was.group.iter().flatten().find(|line| line.gid == gid).map(|line| line.name.clone())
            });
            match named {
                Some(name) => vec![line(What::PrimaryGroup(name, user.clone()))],
                None => vec![Typed::Note(format!("the primary group of {user} had no name before"))],
            }
        }
        What::Adds(name, _) | What::AddsNext(name, _) => vec![line(What::Removes(name.clone()))],
        What::AddsUser(name, _) => vec![line(What::RemovesUser(name.clone()))],
        What::RenamesUser(name, new) => vec![line(What::RenamesUser(new.clone(), name.clone()))],
        What::RenumbersUser(name, _) => {
            let old = was.and_then(|was| was.user_by_name(name)).map(|(line, _)| line.uid);
            old.map_or_else(Vec::new, |uid| vec![line(What::RenumbersUser(name.clone(), uid))])
        }
        What::OnlyGroups(_, user) => {
            let old: Vec<String> = was.map_or_else(Vec::new, |was| {
                was.memberships(user).map(|(line, _)| line.name.clone()).collect()
            });
            vec![line(What::OnlyGroups(old.join(","), user.clone()))]
        }
        What::RemovesUser(name) => {
            let Some((old, _)) = was.and_then(|was| was.user_by_name(name)) else { return Vec::new() };
            let back = line(What::AddsUser(name.clone(), Some((old.uid, Some(old.gid.to_string())))));
            let groups: Vec<String> = was.map_or_else(Vec::new, |was| {
                was.memberships(name).map(|(line, _)| line.name.clone()).collect()
            });
            let joins = (!groups.is_empty()).then(|| line(What::Joins(name.clone(), groups.join(","))));
            std::iter::once(back).chain(joins).collect()
        }
        What::Renames(name, new) => vec![line(What::Renames(new.clone(), name.clone()))],
        What::Renumbers(name, _) => {
            group(name).map_or_else(Vec::new, |old| vec![line(What::Renumbers(name.clone(), old.gid))])
        }
        What::Removes(name) => {
            let Some(old) = group(name) else { return Vec::new() };
            let joins = old.members.iter().map(|user| line(What::Joins(user.clone(), name.clone())));
            std::iter::once(line(What::Adds(name.clone(), old.gid))).chain(joins).collect()
        }
    }
}

/// The account files that are meant, as far as they are given.
fn accounts<'a>(scene: &'a Scene, whose: &str) -> Option<&'a Accounts> {
    if whose == HOST && scene.host.accounts.is_some() {
        return scene.host.accounts.as_ref();
    }
    let containers = scene.workloads.iter().flat_map(|workload| workload.containers.iter());
    let named = containers.filter(|container| whose == HOST || *container.name == *whose);
    let images = named.filter_map(|container| scene.images.get(&container.image.as_ref()?.value));
    images.into_iter().find_map(|image| match &image.identity.accounts {
        Knowledge::Known(accounts) => Some(accounts),
        Knowledge::Unknown => None,
    })
}
