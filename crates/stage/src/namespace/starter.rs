//! Who starts an engine without root, and the ids that he may give (subuid(5), newuidmap(1)).

use std::sync::Arc;

use mivask_model::accounts::Accounts;
use mivask_model::fact::{Fact, Provenance};
use mivask_model::ids::{Extent, IdMap, UserNamespace};

use super::lines::overlap;

/// Consecutive ids of the host.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Range {
    /// The first one.
    pub first: u32,
    /// How many.
    pub count: u32,
}

/// One line of `/etc/subuid` or `/etc/subgid`: `OWNER:FIRST:COUNT`.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SubordinateLine {
    /// A login name, or a user id.
    pub owner: String,
    /// The ids.
    pub range: Range,
}

/// The two files; `None` where one is not given.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct SubordinateIds {
    /// `/etc/subuid`
    pub uids: Option<Vec<SubordinateLine>>,
    /// `/etc/subgid`
    pub gids: Option<Vec<SubordinateLine>>,
}

/// Who starts an engine without root.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Starter {
    /// Login name, where one is known.
    pub name: Option<String>,
    /// User id on the host.
    pub uid: u32,
    /// Primary group on the host.
    pub gid: u32,
    /// Supplementary groups on the host, sorted, the primary one among them.
    pub groups: Vec<u32>,
    /// The engine's own namespace: 0 is the starter, 1 and up the subordinate ids.
    pub namespace: Arc<UserNamespace>,
    /// Subordinate user ids that are mapped.
    pub sub_uids: u32,
    /// Subordinate group ids that are mapped.
    pub sub_gids: u32,
    /// What was taken for granted.
    pub assumptions: Vec<Arc<str>>,
    /// Where it is said.
    pub from: Provenance,
}

impl Starter {
    /// What to call it: the login name, else the number.
    #[must_use]
    pub fn word(&self) -> String {
        self.name.clone().unwrap_or_else(|| format!("user {}", self.uid))
    }
}

/// Why nobody can tell who starts it.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum UnknownStarter {
    /// A name without an account.
    #[error("no account of the host is called `{0}`")]
    NoAccount(String),
    /// A name, and no account files.
    #[error("`{0}` cannot be looked up: the host's accounts are not given")]
    NoAccounts(String),
    /// The host's subuid and subgid are not given.
    #[error("the subordinate ids of `{0}` are not given")]
    Untold(String),
    /// They have no line of a user whose ids a daemon is to take.
    #[error("no line of the host's subuid and subgid is that of `{0}`")]
    NoIds(String),
    /// A line with no ids, which `newuidmap` and the kernel refuse.
    #[error("a line of the subordinate ids of `{0}` has no ids, which no map may (EINVAL)")]
    Empty(String),
    /// More lines than the kernel takes.
    #[error(
        "{0} ranges of subordinate ids are more than the 340 lines that a map has at most (user_namespaces(7))"
    )]
    TooMany(usize),
    /// Ranges that share ids, which the kernel refuses (EINVAL).
    #[error("the subordinate ids of `{0}` overlap, which no map may (EINVAL)")]
    Overlap(String),
}

/// Reads `/etc/subuid` or `/etc/subgid` as `newuidmap` does: lines that are not `OWNER:FIRST:COUNT` to the letter, blanks included,
/// are passed over.
#[must_use]
pub fn subordinate(text: &str) -> Vec<SubordinateLine> {
    let number = |text: &str| -> Option<u32> {
        text.bytes().all(|byte| byte.is_ascii_digit()).then(|| text.parse().ok()).flatten()
    };
    let line = |line: &str| {
        let parts: Vec<&str> = line.split(':').collect();
        let &[owner, first, count] = parts.as_slice() else { return None };
        let range = Range { first: number(first)?, count: number(count)? };
        let fits = !owner.is_empty() && range.first.checked_add(range.count).is_some();
        fits.then(|| SubordinateLine { owner: owner.to_owned(), range })
    };
    text.split('\n').filter_map(line).collect()
}

/// What `useradd` gives to the first account (`SUB_UID_MIN`, `SUB_UID_COUNT` in login.defs(5)).
const USUAL: Range = Range { first: 100_000, count: 65_536 };

/// Lines of a map at most (`UID_GID_MAP_MAX_EXTENTS`).
const MOST_LINES: usize = 340;

/// Who `word` is, a login name or a user id of the host; `None` for root, whose engine has all ids.
///
/// # Errors
/// Where a name cannot be looked up, or the ids make no map.
pub fn starter(
    word: &Fact<String>,
    accounts: Option<&Accounts>,
    ids: &SubordinateIds,
) -> Result<Option<Starter>, UnknownStarter> {
    let text = word.value.as_str();
    let number: Option<u32> =
        text.bytes().all(|byte| byte.is_ascii_digit()).then(|| text.parse().ok()).flatten();
    let line = accounts.and_then(|accounts| match number {
        Some(uid) => accounts.user_by_uid(uid),
        None => accounts.user_by_name(text),
    });
    let mut assumptions: Vec<Arc<str>> = Vec::new();
    let (uid, gid, name) = match (line, number) {
        (Some((line, _)), _) => (line.uid, line.gid, Some(line.name.clone())),
        (None, None) if text == "root" => (0, 0, Some(text.to_owned())),
        (None, None) if accounts.is_some() => return Err(UnknownStarter::NoAccount(text.to_owned())),
        (None, None) => return Err(UnknownStarter::NoAccounts(text.to_owned())),
        (None, Some(0)) => (0, 0, None),
        (None, Some(uid)) => {
            let told =
                format!("user {uid} of the host has the group {uid} and no other, as a new account has");
            assumptions.push(told.into());
            (uid, uid, None)
        }
    };
    if uid == 0 {
        return Ok(None);
    }
    if name.is_some() && accounts.is_none_or(|known| known.group.is_none()) {
        assumptions.push(
            format!("user {uid} is in no further group of the host (its group file is not given)").into(),
        );
    }
    let groups = groups_of(name.as_deref(), gid, accounts);
    let shown = name.clone().unwrap_or_else(|| uid.to_string());
    let Given { uids, gids, told } = given(ids, name.as_deref(), uid);
    let by_name = |lines: &Option<Vec<SubordinateLine>>| {
        lines.iter().flatten().any(|line| line.owner.parse::<u32>().is_err())
    };
    if told && name.is_none() && uids.is_empty() && by_name(&ids.uids) {
        assumptions
            .push(format!("no line of the host's subuid is that of {shown}, whose name is not known").into());
    }
    if !told {
        let text = format!(
            "{shown} has the subordinate ids 100000-165535, as `useradd` gives them to the first account (the host's subuid and subgid tell)"
        );
        assumptions.push(text.into());
    }
    let held = |ranges: &[Range]| ranges.iter().map(|range| range.count).fold(0, u32::saturating_add);
    let namespace =
        UserNamespace { uids: default_map(uid, &uids, &shown)?, gids: default_map(gid, &gids, &shown)? };
    Ok(Some(Starter {
        sub_uids: held(&uids),
        sub_gids: held(&gids),
        namespace: Arc::new(namespace),
        name,
        uid,
        gid,
        groups,
        assumptions,
        from: word.from.clone(),
    }))
}

/// The groups of an account on the host, its own among them, sorted.
fn groups_of(name: Option<&str>, gid: u32, accounts: Option<&Accounts>) -> Vec<u32> {
    let members = name.zip(accounts).into_iter().flat_map(|(name, known)| known.memberships(name));
    let mut groups: Vec<u32> = members.map(|(line, _)| line.gid).chain([gid]).collect();
    groups.sort_unstable();
    groups.dedup();
    groups
}

/// The ranges that somebody may give.
struct Given {
    uids: Vec<Range>,
    gids: Vec<Range>,
    /// Whether both files were given.
    told: bool,
}

fn given(ids: &SubordinateIds, name: Option<&str>, uid: u32) -> Given {
    let own = |lines: &[SubordinateLine]| -> Vec<Range> {
        let is_own =
            |line: &&SubordinateLine| Some(line.owner.as_str()) == name || line.owner == uid.to_string();
        lines.iter().filter(is_own).map(|line| line.range).collect()
    };
    let (uids, gids) = match (&ids.uids, &ids.gids) {
        (Some(uids), Some(gids)) => (own(uids), own(gids)),
        (Some(one), None) | (None, Some(one)) => (own(one), own(one)),
        (None, None) => (vec![USUAL], vec![USUAL]),
    };
    let told = ids.uids.is_some() && ids.gids.is_some();
    // Without both there is a map of one id (`rootless.becomeRootInUserNS`).
    if uids.is_empty() || gids.is_empty() {
        return Given { uids: Vec::new(), gids: Vec::new(), told };
    }
    Given { uids, gids, told }
}

/// `0 -> own`, then the ranges by their first id, one behind the other (containers/storage, `createIDMap`).
fn default_map(own: u32, ranges: &[Range], who: &str) -> Result<IdMap, UnknownStarter> {
    let mut ranges = ranges.to_vec();
    ranges.sort_by_key(|range| range.first);
    in_a_row(vec![Extent { inside: 0, outside: own, count: 1 }], &ranges, who)
}

/// `extents`, which begin at 0 inside, then the ranges as they come.
pub(super) fn in_a_row(
    mut extents: Vec<Extent>,
    ranges: &[Range],
    who: &str,
) -> Result<IdMap, UnknownStarter> {
    if ranges.iter().any(|range| range.count == 0) {
        return Err(UnknownStarter::Empty(who.to_owned()));
    }
    if extents.len() + ranges.len() > MOST_LINES {
        return Err(UnknownStarter::TooMany(ranges.len()));
    }
    let mut next: u32 = extents.iter().map(|line| line.count).sum();
    for range in ranges {
        let extent = Extent { inside: next, outside: range.first, count: range.count };
        if extents.iter().any(|line| overlap(line, &extent)) || next.checked_add(range.count).is_none() {
            return Err(UnknownStarter::Overlap(who.to_owned()));
        }
        extents.push(extent);
        next += range.count;
    }
    Ok(IdMap::new(extents))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The map of a user `worker`, 1500, as `/proc/self/uid_map` has it under `podman unshare` (Podman 4.3.1), or why there is none.
    fn map(subuid: &str) -> String {
        let word = Fact::new("worker".to_owned(), Provenance::rule("a test"));
        let line = mivask_model::accounts::UserLine::new("worker", 1500, 1500, Provenance::rule("a test"));
        let accounts = Accounts { passwd: Some(vec![line]), ..Accounts::default() };
        let ids = SubordinateIds { uids: Some(subordinate(subuid)), gids: Some(subordinate(subuid)) };
        match starter(&word, Some(&accounts), &ids) {
            Ok(Some(starter)) => starter
                .namespace
                .uids
                .extents()
                .iter()
                .map(ToString::to_string)
                .collect::<Vec<_>>()
                .join(", "),
            Ok(None) => "root".to_owned(),
            Err(why) => why.to_string(),
        }
    }

    macro_rules! maps {
        ($($name:ident: $subuid:literal => $lines:literal;)+) => {$(
            #[test]
            fn $name() {
                assert_eq!(map($subuid), $lines);
            }
        )+};
    }

    maps! {
        by_number: "1500:200000:65536\n" => "0 1500 1, 1 200000 65536";
        by_the_first_id: "worker:200000:10\nworker:100000:5\n" => "0 1500 1, 1 100000 5, 6 200000 10";
        of_somebody_else: "other:1:1\n" => "0 1500 1";
        by_name_and_by_number: "worker:200000:10\n1500:300000:10\n" => "0 1500 1, 1 200000 10, 11 300000 10";
        a_blank_behind_a_number: "# x\nworker:200000:10 \n" => "0 1500 1";
        a_blank_before_a_name: " worker:200000:10\n" => "0 1500 1";
        no_ids: "worker:200000:0\nworker:300000:4\n" => "a line of the subordinate ids of `worker` has no ids, which no map may (EINVAL)";
        a_line_that_is_none: "worker:200000:10\nworker:bad:1\nworker:300000:4\n" => "0 1500 1, 1 200000 10, 11 300000 4";
        ranges_that_meet: "worker:200000:10\nworker:200005:10\n" => "the subordinate ids of `worker` overlap, which no map may (EINVAL)";
    }
}
