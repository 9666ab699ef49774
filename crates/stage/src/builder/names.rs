//! Names and numbers of users and groups while an image is built.

use std::sync::Arc;

use mivask_model::accounts::Accounts;
use mivask_model::fact::Unknown;

use super::ground::{BuildState, Number};
use crate::identity::Knowledge;

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
        match &self.accounts {
            Knowledge::Known(accounts) => Some(accounts),
            Knowledge::Unknown => None,
        }
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

    /// The number, or the fact that would give it; a name that is missing for certain is one no one can look up.
    fn number(&self, found: Found, name: &str) -> Number {
        match found {
            Found::Number(number) => number,
            Found::Missing => {
                let fact = format!("who `{name}` is: image {} has no such account", self.name);
                Err(Unknown { fact: Arc::from(fact), settle: Arc::from("name one that it has") })
            }
        }
    }
}
