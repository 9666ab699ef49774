//! A daemon of root's that gives its containers the subordinate ids of somebody: Docker's `userns-remap` (dockerd(8)).

use mivask_model::accounts::Accounts;
use mivask_model::fact::Fact;
use mivask_model::ids::UserNamespace;

use super::starter::{Range, SubordinateIds, SubordinateLine, UnknownStarter, in_a_row};

/// The user that Docker makes for itself where it is told `default`.
const OF_DOCKER: &str = "dockremap";

/// The ids of containers whose daemon is told `word`: `default`, a login name or a user id of the host, and maybe a group behind a
/// colon, which decides nothing about them; `None` for root, whose ids are the host's.
///
/// As Docker 20.10 does it: the lines of the user's number, or else those of its name, in the order in which they stand
/// (docs/facts/rootless.md 17).
///
/// # Errors
/// Where nobody can tell, or the daemon would not start.
pub fn remapped(
    word: &Fact<String>,
    accounts: Option<&Accounts>,
    ids: &SubordinateIds,
) -> Result<Option<UserNamespace>, UnknownStarter> {
    let given = word.value.split(':').next().unwrap_or_default();
    let user = if given == "default" { OF_DOCKER } else { given };
    let number: Option<u32> = user.parse().ok();
    if user == "root" || number == Some(0) {
        return Ok(None);
    }
    let line = accounts.and_then(|accounts| match number {
        Some(uid) => accounts.user_by_uid(uid),
        None => accounts.user_by_name(user),
    });
    let line = line.map(|(line, _)| line);
    let (Some(uids), Some(gids)) = (&ids.uids, &ids.gids) else {
        return Err(UnknownStarter::Untold(user.to_owned()));
    };
    let uid = line.map(|line| line.uid).or(number);
    let name = line.map(|line| line.name.as_str()).or(number.is_none().then_some(user));
    if line.is_none() && accounts.is_some_and(|known| known.passwd.is_some()) {
        return Err(UnknownStarter::NoAccount(user.to_owned()));
    }
    let of = |lines: &[SubordinateLine]| -> Result<Vec<Range>, UnknownStarter> {
        let owned = |owner: Option<String>| -> Vec<Range> {
            let is_own = |line: &&SubordinateLine| Some(&line.owner) == owner.as_ref();
            lines.iter().filter(is_own).map(|line| line.range).collect()
        };
        let by_number = owned(uid.map(|uid| uid.to_string()));
        if !by_number.is_empty() {
            return Ok(by_number);
        }
        // Some line may be by the number of this name, or by the name of this number.
        let other = |line: &SubordinateLine| line.owner.parse::<u32>().is_ok() == (uid.is_none());
        if (uid.is_none() || name.is_none()) && lines.iter().any(other) {
            return Err(UnknownStarter::NoAccounts(user.to_owned()));
        }
        let by_name = owned(name.map(ToOwned::to_owned));
        if by_name.is_empty() { Err(UnknownStarter::NoIds(user.to_owned())) } else { Ok(by_name) }
    };
    let (uids, gids) = (of(uids)?, of(gids)?);
    let map = |ranges: &[Range]| in_a_row(Vec::new(), ranges, user);
    Ok(Some(UserNamespace { uids: map(&uids)?, gids: map(&gids)? }))
}

/// All subordinate ids of a user, by name and by number together, from 0 in the order of their first ids: Podman's `--subuidname`.
///
/// # Errors
/// Where nobody can tell, or Podman refuses it.
pub(super) fn by_first_id(
    user: &str,
    accounts: Option<&Accounts>,
    ids: &SubordinateIds,
) -> Result<UserNamespace, UnknownStarter> {
    let (Some(uids), Some(gids)) = (&ids.uids, &ids.gids) else {
        return Err(UnknownStarter::Untold(user.to_owned()));
    };
    let line = accounts.and_then(|accounts| accounts.user_by_name(user)).map(|(line, _)| line);
    let number = line.map(|line| line.uid.to_string());
    let side = |lines: &[SubordinateLine]| {
        let by_number = |line: &SubordinateLine| line.owner.parse::<u32>().is_ok() && line.owner != user;
        if number.is_none() && accounts.is_none() && lines.iter().any(by_number) {
            return Err(UnknownStarter::NoAccounts(user.to_owned()));
        }
        let is_own = |line: &&SubordinateLine| line.owner == user || Some(&line.owner) == number.as_ref();
        let mut ranges: Vec<Range> = lines.iter().filter(is_own).map(|line| line.range).collect();
        if ranges.is_empty() {
            return Err(UnknownStarter::NoIds(user.to_owned()));
        }
        ranges.sort_by_key(|range| range.first);
        in_a_row(Vec::new(), &ranges, user)
    };
    Ok(UserNamespace { uids: side(uids)?, gids: side(gids)? })
}

#[cfg(test)]
mod tests {
    use mivask_model::accounts::UserLine;
    use mivask_model::fact::Provenance;

    use super::super::subordinate;
    use super::*;

    /// The map of users, as `/proc/self/uid_map` has it in a container of Docker 20.10 with `--userns-remap` (docs/facts/rootless.md
    /// 17), or why there is none.
    fn told(word: &str, accounts: bool, subuid: &str) -> String {
        let from = || Provenance::rule("a test");
        let line = UserLine::new("ada", 1500, 1600, from());
        let accounts = accounts.then(|| Accounts { passwd: Some(vec![line]), ..Accounts::default() });
        let ids = SubordinateIds { uids: Some(subordinate(subuid)), gids: Some(subordinate(subuid)) };
        match remapped(&Fact::new(word.to_owned(), from()), accounts.as_ref(), &ids) {
            Ok(Some(map)) => {
                map.uids.extents().iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
            }
            Ok(None) => "the host's".to_owned(),
            Err(why) => why.to_string(),
        }
    }

    #[test]
    fn ranges_stand_in_the_order_of_the_file_and_numbers_come_first() {
        let by_name = "ada:500000:1000\nada:300000:2000\n";
        for word in ["ada", "1500", "ada:crew", "1500:1900"] {
            assert_eq!(told(word, true, by_name), "0 500000 1000, 1000 300000 2000", "{word}");
        }
        let both = format!("{by_name}1500:700000:500\n");
        assert_eq!(told("ada", true, &both), "0 700000 500");
        assert_eq!(told("default", false, "dockremap:165536:65536\n"), "0 165536 65536");
        for word in ["root", "0", "root:crew"] {
            assert_eq!(told(word, true, by_name), "the host's");
        }
    }

    #[test]
    fn all_lines_of_somebody_follow_by_their_first_ids() {
        let ids =
            |text: &str| SubordinateIds { uids: Some(subordinate(text)), gids: Some(subordinate(text)) };
        let line = UserLine::new("ada", 1500, 1600, Provenance::rule("a test"));
        let accounts = Accounts { passwd: Some(vec![line]), ..Accounts::default() };
        let shown = |user: &str, known: bool, text: &str| match by_first_id(
            user,
            known.then_some(&accounts),
            &ids(text),
        ) {
            Ok(map) => map.uids.extents().iter().map(ToString::to_string).collect::<Vec<_>>().join(", "),
            Err(why) => why.to_string(),
        };
        // As Podman 4.3.1 has them for root (docs/facts/rootless.md 19).
        let lines = "ada:900000:50\nada:600000:2000\n1500:700000:100\n";
        assert_eq!(shown("ada", true, lines), "0 600000 2000, 2000 700000 100, 2100 900000 50");
        assert!(shown("ada", false, lines).contains("cannot be looked up"));
        assert_eq!(shown("1500", false, lines), "0 700000 100");
        assert_eq!(shown("eve", true, lines), "no line of the host's subuid and subgid is that of `eve`");
    }

    #[test]
    fn what_nobody_can_tell_is_said() {
        let lines = "ada:500000:1000\n";
        assert_eq!(told("eve", true, lines), "no account of the host is called `eve`");
        assert_eq!(
            told("ada", true, "eve:1:1\n"),
            "no line of the host's subuid and subgid is that of `ada`"
        );
        // Without accounts a name and a number are nobody in common.
        assert_eq!(told("ada", false, lines), "0 500000 1000");
        let unknown = "`ada` cannot be looked up: the host's accounts are not given";
        assert_eq!(told("ada", false, "ada:500000:1000\n1500:700000:500\n"), unknown);
        assert!(told("1500", false, lines).contains("accounts are not given"));
        assert_eq!(told("1500", false, "1500:7:5\nada:1:1\n"), "0 7 5");
        assert!(told("ada", true, "ada:5:10\nada:7:10\n").contains("overlap"));
        assert!(told("ada", true, "ada:5:0\n").contains("has no ids"));
        let untold = remapped(
            &Fact::new("ada".to_owned(), Provenance::rule("a test")),
            None,
            &SubordinateIds::default(),
        );
        assert_eq!(untold.unwrap_err().to_string(), "the subordinate ids of `ada` are not given");
    }
}
