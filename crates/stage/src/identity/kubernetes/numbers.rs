//! The numbers a container may have: user, group and supplementary groups.

use std::sync::Arc;

use mivask_model::accounts::{Accounts, UserLine};
use mivask_model::fact::{Fact, Provenance, Unknown};
use mivask_model::held::Held;

use super::{Case, UserPart};
use crate::identity::IdentityField;
use crate::identity::groups::{captured, too_large};
use crate::identity::{Knowledge, untold};

/// The numbers of one possible identity.
pub(super) struct Numbers {
    pub uid: Held<u32>,
    pub gid: Held<u32>,
    pub groups: Vec<Held<u32>>,
}

impl Numbers {
    /// The first id that runc refuses at start.
    pub(super) fn too_large(&self, accounts: Option<&Accounts>) -> Option<u32> {
        let groups = self.groups.iter().filter_map(|gid| gid.id());
        too_large(self.uid.id(), self.gid.id(), groups, accounts)
    }
}

/// The possible numbers, the fact that tells them apart, and the account's name.
pub(super) struct Possibilities {
    pub possible: Vec<(Arc<str>, Numbers)>,
    pub question: Option<Unknown>,
    pub name: Option<String>,
}

impl Possibilities {
    fn one(numbers: Numbers, name: Option<String>) -> Self {
        Self { possible: vec![(Arc::from(""), numbers)], question: None, name }
    }
}

impl Case<'_> {
    /// The possible numbers, the fact that tells them apart, and the account's name.
    pub(super) fn possibilities(&mut self, user: UserPart) -> Possibilities {
        match user {
            UserPart::Id(uid) => {
                let line = self.accounts().and_then(|accounts| accounts.user_by_uid(uid.value));
                let line = line.map(|(line, place)| (line.clone(), place));
                self.fact(IdentityField::Uid, uid.value, uid.from);
                self.with_account(uid.value, line)
            }
            UserPart::Name(name) => {
                let line = self.accounts().and_then(|accounts| accounts.user_by_name(&name.value));
                match line.map(|(line, place)| (line.clone(), place)) {
                    Some((line, place)) => {
                        self.fact(IdentityField::Uid, line.uid, place.clone());
                        self.with_account(line.uid, Some((line, place)))
                    }
                    None => self.named_without_account(&name),
                }
            }
            UserPart::Unknown => self.unknown_user(),
        }
    }

    fn with_account(&mut self, uid: u32, line: Option<(UserLine, Provenance)>) -> Possibilities {
        let known = self.accounts().is_some_and(|accounts| line.is_some() || accounts.incomplete.is_none());
        match &line {
            Some((line, place)) => self.fact(IdentityField::Name, &line.name, place.clone()),
            None if known => self.fact(
                IdentityField::Name,
                "none",
                Provenance::Rule(format!("no passwd line of {} has uid {uid}", self.image_name).into()),
            ),
            None => {
                self.fact(IdentityField::Name, "unknown", Provenance::Unknown(self.accounts_fact().into()))
            }
        }
        let name = line.as_ref().map(|(line, _)| line.name.clone());
        let asked_gid = self.container.run_as_group.clone().or_else(|| self.pod.run_as_group.clone());
        let gid = match (asked_gid, &line) {
            (Some(gid), _) => Some(gid),
            (None, Some((line, place))) => Some(Fact::new(line.gid, place.clone())),
            (None, None) if known => {
                Some(Fact::new(0, Provenance::rule("no account and no runAsGroup, so group 0")))
            }
            (None, None) => None,
        };
        if self.accounts().is_none_or(|accounts| accounts.incomplete.is_some()) {
            self.assume_no_memberships();
        }
        match gid {
            Some(gid) => {
                let gid_value = gid.value;
                self.fact(IdentityField::Gid, gid_value, gid.from);
                let groups = self.groups(Some(gid_value), name.as_deref());
                Possibilities::one(Numbers { uid: Held::Id(uid), gid: Held::Id(gid_value), groups }, name)
            }
            None => self.unknown_gid(uid),
        }
    }

    /// A known uid whose primary group depends on an account file that is not given. Root's is 0 in practice
    /// everywhere, so that is an assumption rather than a question.
    fn unknown_gid(&mut self, uid: u32) -> Possibilities {
        if uid == 0 {
            self.fact(IdentityField::Gid, 0, Provenance::Assumption(untold::ROOT_GROUP.into()));
            self.assumptions.push(untold::ROOT_GROUP.into());
            let groups = self.groups(Some(0), None);
            return Possibilities::one(Numbers { uid: Held::Id(0), gid: Held::Id(0), groups }, None);
        }
        let unknown = Unknown::new(&self.accounts_fact(), &self.settle_image("accounts"));
        self.fact(IdentityField::Gid, "0, or the account's", Provenance::Unknown(unknown.fact.clone()));
        let shared = self.groups(None, None);
        let with = |gid: Held<u32>| {
            let mut groups = shared.clone();
            groups.push(gid);
            Numbers { uid: Held::Id(uid), gid, groups }
        };
        let possible = untold::primary_groups(uid).map(|(when, gid)| (when, with(gid))).into();
        Possibilities { possible, question: Some(unknown), name: None }
    }

    /// The image's user is not given. It is root unless runAsNonRoot rules that out; an ordinary user's group
    /// is its account's, or 0 where it has no account.
    fn unknown_user(&mut self) -> Possibilities {
        let image = self.image_name;
        let unknown = Unknown::new(&format!("the user of image {image}"), &self.settle_image("user"));
        let from = || Provenance::Unknown(unknown.fact.clone());
        let ordinary_only = self.must_not_be_root();
        let words = if ordinary_only { "an ordinary user's" } else { "0 or an ordinary user's" };
        self.fact(IdentityField::Uid, words, from());
        if ordinary_only {
            let text =
                format!("image {image} names a user other than root by number, as runAsNonRoot demands");
            self.assumptions.push(text.into());
        }
        let asked_gid = self.container.run_as_group.clone();
        match &asked_gid {
            Some(gid) => self.fact(IdentityField::Gid, gid.value, gid.from.clone()),
            None => self.fact(IdentityField::Gid, "0 or the user's", from()),
        }
        self.assume_no_memberships();
        let group = asked_gid.map(|gid| gid.value);
        let shared = self.groups(group, None);
        let with = |uid: Held<u32>, gid: Held<u32>| {
            let mut groups = shared.clone();
            groups.push(gid);
            Numbers { uid, gid, groups }
        };
        let users =
            untold::users(group, "the image").into_iter().filter(|(_, uid, _)| !ordinary_only || !uid.is(0));
        let possible: Vec<(Arc<str>, Numbers)> =
            users.map(|(when, uid, gid)| (when, with(uid, gid))).collect();
        let question = (possible.len() > 1).then_some(unknown);
        Possibilities { possible, question, name: None }
    }

    fn named_without_account(&mut self, name: &Fact<String>) -> Possibilities {
        let unknown = Unknown::new(&self.accounts_fact(), &self.settle_image("accounts"));
        self.fact(
            IdentityField::Uid,
            format!("that of `{}`", name.value),
            Provenance::Unknown(unknown.fact.clone()),
        );
        if name.value == "root" {
            self.assumptions.push(untold::ROOT_ACCOUNT.into());
            let groups = self.groups(Some(0), None);
            return Possibilities::one(
                Numbers { uid: Held::Id(0), gid: Held::Id(0), groups },
                Some(name.value.clone()),
            );
        }
        let asked_gid = self.container.run_as_group.as_ref().map(|gid| gid.value);
        self.assumptions.push(untold::ordinary_account(&name.value, self.image_name));
        let mut groups = self.groups(asked_gid, None);
        if asked_gid.is_none() {
            groups.push(Held::Unnumbered);
        }
        Possibilities::one(
            Numbers { uid: Held::Unnumbered, gid: asked_gid.into(), groups },
            Some(name.value.clone()),
        )
    }

    /// {gid} + image memberships (unless Strict) + supplementalGroups + {fsGroup}.
    fn groups(&mut self, gid: Option<u32>, user: Option<&str>) -> Vec<Held<u32>> {
        let mut found: Vec<(u32, Provenance)> = Vec::new();
        if let Some(gid) = gid {
            found.push((gid, Provenance::rule("the primary group, which the runtime lists again")));
        }
        let strict = self.pod.strict_groups.as_ref().is_some_and(|strict| strict.value);
        if let (Some(user), Some(accounts), false) = (user, self.accounts(), strict) {
            found.extend(accounts.memberships(user).map(|(line, place)| (line.gid, place)));
        }
        found.extend(self.pod.supplemental_groups.iter().map(|group| (group.value, group.from.clone())));
        found.extend(self.pod.fs_group.iter().map(|group| (group.value, group.from.clone())));
        let mut groups = Vec::new();
        for (group, from) in found {
            if !groups.contains(&group) {
                groups.push(group);
                self.fact(IdentityField::Group, group, from);
            }
        }
        let groups = match &self.image.accounts {
            Knowledge::Known(accounts) if self.profile.identity.captures_group_names => {
                captured(&groups, accounts, &mut self.facts)
            }
            Knowledge::Known(_) | Knowledge::Unknown => groups,
        };
        groups.into_iter().map(Held::Id).collect()
    }

    /// No one gave the group file; with `Strict` it would not be looked at anyway.
    fn assume_no_memberships(&mut self) {
        if self.pod.strict_groups.as_ref().is_some_and(|strict| strict.value) {
            return;
        }
        let image = self.image_name;
        let text = match self.accounts() {
            Some(_) => format!("no further group of image {image} lists the user as a member"),
            None => {
                format!("no group of image {image} lists the user as a member (its group file is not given)")
            }
        };
        self.assumptions.push(text.into());
    }

    fn accounts_fact(&self) -> String {
        format!("the account files of image {}", self.image_name)
    }

    fn settle_image(&self, key: &str) -> String {
        format!(
            "give `{key}` under `images: {{ {}: ... }}` in a scene file, or let it be looked for with --images-from",
            self.image_name
        )
    }
}
