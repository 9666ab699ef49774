//! Names and numbers of users and groups while an image is built.

use mivask_model::accounts::Accounts;
use mivask_model::fact::Unknown;

use super::ground::{BuildState, Number};
use crate::identity::Knowledge;
use crate::recipe::BuildStep;

/// What a name means.
pub(super) enum Found {
    /// A number, or the fact that would give it.
    Number(Number),
    /// For certain nothing.
    Missing,
}

impl Found {
    fn known(number: u32) -> Self {
        Self::Number(Ok(number))
    }
}

impl BuildState<'_> {
    /// The accounts that are known, if any.
    fn known_accounts(&self) -> Option<&Accounts> {
        self.accounts.known()
    }

    /// The account files, to be changed; where nothing is known of them they are incomplete from the start.
    pub(super) fn accounts_mut(&mut self) -> &mut Accounts {
        if matches!(self.accounts, Knowledge::Unknown) {
            let incomplete = Some(self.untold_accounts());
            self.accounts = Knowledge::Known(Accounts { incomplete, ..Accounts::default() });
        }
        match &mut self.accounts {
            Knowledge::Known(accounts) => accounts,
            Knowledge::Unknown => unreachable!("the accounts were just made known"),
        }
    }

    /// What is not known of the accounts; `None` where every line is.
    pub(super) fn missing_accounts(&self) -> Option<Unknown> {
        match self.known_accounts() {
            Some(accounts) => accounts.incomplete.clone(),
            None => Some(self.untold_accounts()),
        }
    }

    fn untold_accounts(&self) -> Unknown {
        let fact = format!("the accounts of what image {} is built on", self.name);
        Unknown::new(&fact, "give `accounts` for that image in a scene file")
    }

    fn absent(&self, text: &str) -> Found {
        match self.missing_accounts() {
            // Every image that has accounts has this one.
            _ if text == "root" => Found::known(0),
            Some(unknown) => Found::Number(Err(unknown)),
            None => Found::Missing,
        }
    }

    /// The uid of a name, and the login group of that account.
    pub(super) fn account(&self, name: &str) -> (Found, Found) {
        let line = self.known_accounts().and_then(|accounts| accounts.user_by_name(name));
        match line {
            Some((line, _)) => (Found::known(line.uid), Found::known(line.gid)),
            None => (self.absent(name), self.absent(name)),
        }
    }

    /// The gid of a group name.
    pub(super) fn group(&self, name: &str) -> Found {
        let line = self.known_accounts().and_then(|accounts| accounts.group_by_name(name));
        line.map_or_else(|| self.absent(name), |(line, _)| Found::known(line.gid))
    }

    /// The login group of a uid: its account's.
    pub(super) fn login_group(&self, uid: u32) -> Option<Number> {
        let line = self.known_accounts().and_then(|accounts| accounts.user_by_uid(uid));
        match (line, self.missing_accounts()) {
            (Some((line, _)), _) => Some(Ok(line.gid)),
            (None, Some(unknown)) if uid != 0 => Some(Err(unknown)),
            (None, _) => None,
        }
    }

    /// Whether the image's user is a name that it does not know.
    pub(super) fn nobody(&self) -> bool {
        let Knowledge::Known(Some(user)) = &self.user else { return false };
        let user = user.value.split(':').next().unwrap_or_default();
        is_name(user) && matches!(self.account(user).0, Found::Missing)
    }

    /// The image's user where it is a number without a group.
    pub(super) fn lone_number(&self) -> Option<u32> {
        let Knowledge::Known(Some(user)) = &self.user else { return None };
        user.value.parse().ok()
    }

    /// The groups of the group file that commands run with as well; a group part of the user takes them away.
    pub(super) fn memberships(&self) -> Vec<u32> {
        let (Knowledge::Known(Some(user)), Some(accounts)) = (&self.user, self.known_accounts()) else {
            return Vec::new();
        };
        let line = match (user.value.contains(':'), user.value.parse::<u32>()) {
            (true, _) => None,
            (false, Ok(uid)) => accounts.user_by_uid(uid),
            (false, Err(_)) => accounts.user_by_name(&user.value),
        };
        let Some((line, _)) = line else { return Vec::new() };
        accounts.memberships(&line.name).map(|(group, _)| group.gid).collect()
    }

    /// User and group that commands run with.
    pub(super) fn runner(&mut self) -> (Number, Number) {
        let user = match &self.user {
            Knowledge::Known(Some(user)) => user.value.clone(),
            Knowledge::Known(None) => String::new(),
            Knowledge::Unknown => {
                let text = format!("what image {} is built on runs as root", self.name);
                self.assume(text);
                String::new()
            }
        };
        let (user, group) = user.split_once(':').unwrap_or((&user, ""));
        if user.is_empty() {
            return (Ok(0), Ok(0));
        }
        let (uid, own) = match user.parse() {
            Ok(uid) => (Ok(uid), self.login_group(uid).unwrap_or(Ok(0))),
            Err(_) => {
                let (uid, gid) = self.account(user);
                (self.number(uid, user), self.number(gid, user))
            }
        };
        let gid = match (group, group.parse()) {
            ("", _) => own,
            (_, Ok(gid)) => Ok(gid),
            (name, Err(_)) => {
                let found = self.group(name);
                self.number(found, name)
            }
        };
        (uid, gid)
    }

    /// A command cannot run as somebody whom the image does not know by that name.
    pub(super) fn runner_exists(&mut self, step: &BuildStep) {
        let Knowledge::Known(Some(user)) = &self.user else { return };
        let (user, group) = user.value.split_once(':').unwrap_or((&user.value, ""));
        let no_group = is_name(group) && matches!(self.group(group), Found::Missing);
        let (what, name) = match (self.nobody(), no_group) {
            (true, _) => ("user", user.to_owned()),
            (false, true) => ("group", group.to_owned()),
            (false, false) => return,
        };
        self.fail(&step.words, &format!("the image has no {what} `{name}`"), &step.from);
    }

    /// The number, or the fact that would give it; a name that is missing for certain is one no one can look up.
    fn number(&self, found: Found, name: &str) -> Number {
        match found {
            Found::Number(number) => number,
            Found::Missing => {
                let fact = format!("who `{name}` is: image {} has no such account", self.name);
                Err(Unknown::new(&fact, "name one that it has"))
            }
        }
    }
}

/// Whether a part of a user string is a name that has to be looked up.
fn is_name(part: &str) -> bool {
    !part.is_empty() && part.parse::<u32>().is_err()
}
