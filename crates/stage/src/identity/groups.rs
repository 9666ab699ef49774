//! Supplementary groups by name and by number, as runc and the engines look them up.

use mivask_model::accounts::Accounts;
use mivask_model::fact::Provenance;
use mivask_model::held::Held;
use mivask_model::ids::{InsideGid, NO_ID};

use super::IdentityFact;

/// What one wanted group becomes: a line of the group file, or nothing found.
///
/// A wanted name or number takes the first line, in file order, that has that *name or number* and whose number was
/// not taken yet (docs/facts/runtimes.md 1.5).
pub(super) fn look_up(wanted: &[String], accounts: &Accounts) -> Vec<Option<(u32, Provenance)>> {
    let mut taken: Vec<u32> = Vec::new();
    let mut find = |text: &String| {
        let lines = accounts.group.as_ref()?;
        let number = text.parse::<i64>();
        let line = lines
            .iter()
            .filter(|line| line.name == *text || number == Ok(line.number()))
            .find(|line| !taken.contains(&line.gid))?;
        taken.push(line.gid);
        Some((line.gid, line.from.clone()))
    };
    wanted.iter().map(&mut find).collect()
}

/// What runc 1.1 makes of additional group numbers: a group *named* like a number takes its place.
pub(super) fn captured(wanted: &[u32], accounts: &Accounts, facts: &mut Vec<IdentityFact>) -> Vec<u32> {
    let texts: Vec<String> = wanted.iter().map(ToString::to_string).collect();
    let found = look_up(&texts, accounts);
    let take = |(wanted, found): (&u32, Option<(u32, Provenance)>)| match found {
        Some((gid, from)) if gid != *wanted => {
            let value = format!("{gid}, for runc 1.1 takes {wanted} for the name of this group");
            facts.push(IdentityFact { field: crate::identity::IdentityField::Group, value, from });
            gid
        }
        Some(_) | None => *wanted,
    };
    wanted.iter().zip(found).map(take).collect()
}

/// Groups as the kernel lists them: by number, each once.
pub(super) fn sorted(groups: impl IntoIterator<Item = Held<u32>>) -> Vec<Held<InsideGid>> {
    let mut groups: Vec<_> = groups.into_iter().map(|gid| gid.map(InsideGid::new)).collect();
    groups.sort_unstable();
    groups.dedup();
    groups
}

/// The largest id that runc takes.
pub(super) const LARGEST: u32 = 2_147_483_647;

/// The first id of a process that runc refuses at start: one above 2147483647 that is not in the container's account files
/// (`GetExecUser` and `GetAdditionalGroups` check the range of what they did not find), or [`NO_ID`], which setuid(2) does not take.
pub(super) fn too_large(
    uid: Option<u32>,
    gid: Option<u32>,
    groups: impl IntoIterator<Item = u32>,
    accounts: Option<&Accounts>,
) -> Option<u32> {
    let an_id = |id: u32| id != NO_ID;
    let user =
        uid.filter(|uid| !an_id(*uid) || accounts.and_then(|accounts| accounts.user_by_uid(*uid)).is_none());
    let listed = |gid: u32| an_id(gid) && accounts.and_then(|accounts| accounts.group_by_gid(gid)).is_some();
    let groups = gid.into_iter().chain(groups).filter(|gid| !listed(*gid));
    user.into_iter().chain(groups).find(|id| *id > LARGEST)
}
