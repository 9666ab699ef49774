//! Who a container is whose user is one string, `USER` or `USER:GROUP` (docs/facts/runtimes.md section 1).

use std::sync::Arc;

use mivask_model::accounts::Accounts;
use mivask_model::fact::{Fact, Provenance, Unknown};
use mivask_model::held::Held;

use super::groups::{LARGEST, captured};
use super::kubernetes::{out_of_range, user_number};
use super::no_id;
use super::notes::Notes;
use super::people::{People, Person};
use super::privileges::Privileges;
use super::{ImageFacts, Knowledge, NamespaceTerms, PlainIdentity, Resolved, untold};
use crate::identity::IdentityField;
use crate::runtime::{Listing, Profile};

/// Resolves the identity of a container of a scene file or a Compose file.
///
/// A name needs an account; a group part drops the memberships of the group file. Never fails: a user that does not
/// resolve carries a refusal, a missing fact becomes several possible identities.
#[must_use]
pub fn plain_identity(
    asked: &PlainIdentity,
    image: &ImageFacts,
    image_name: &str,
    profile: &Profile,
    terms: &NamespaceTerms,
) -> Resolved {
    let rules = &profile.identity;
    let mut notes =
        Notes { image_name, rules, terms, facts: Vec::new(), assumptions: Vec::new(), refusal: None };
    notes.assumptions.extend(profile.caveat.map(Arc::from));
    let mut people = notes.people(asked, image);
    notes.added(asked, image, &mut people);
    if let (Knowledge::Known(accounts), true) =
        (&image.accounts, rules.captures_group_names && !image.covered)
    {
        for (_, person) in &mut people.possible {
            let numbers: Vec<u32> = person.numbers().collect();
            let captured = captured(&numbers, accounts, &mut notes.facts).into_iter().map(Held::Id);
            let rest = person.groups.iter().copied().filter(|gid| gid.id().is_none());
            person.groups = captured.chain(rest).collect();
        }
    }
    let name = people.possible[0].1.name.clone();
    // Ids from the account files get past the check of the USER string; runc looks again when it starts.
    notes.at_start(&mut people, image);
    let privileges = Privileges::of(asked, profile, &mut notes);
    let possible = people.possible.into_iter();
    let possible = possible.map(|(when, person)| (when, privileges.identity(person))).collect();
    let Notes { facts, assumptions, refusal, .. } = notes;
    Resolved { possible, question: people.question, name, facts, refusal, assumptions }
}

/// Where the image's user is not known it may name nobody, and `keep-id` then runs it as who starts the engine.
fn with_starter(mut people: People, starter: Option<(u32, u32)>) -> People {
    let Some((uid, gid)) = starter else { return people };
    let person = Person { uid: Held::Id(uid), gid: Held::Id(gid), groups: vec![Held::Id(gid)], name: None };
    let when = "the image names nobody, so it runs as who starts the engine";
    people.possible.insert(0, (when.into(), person));
    people
}

/// The parts of a user string.
struct Parts<'a> {
    user: &'a str,
    group: Option<&'a str>,
    /// Whether memberships are dropped.
    explicit: bool,
}

impl<'a> Parts<'a> {
    /// The parts, and whether an account file has each as a number: the range of those is not checked (`GetExecUser`).
    fn listed(&self, accounts: Option<&Accounts>) -> impl Iterator<Item = (&'a str, bool)> + use<'a> {
        let user = account_number(self.user).and_then(|number| accounts?.user_by_uid(number)).is_some();
        let group = self.group.and_then(account_number).and_then(|number| accounts?.group_by_gid(number));
        let group = self.group.map(|part| (part, group.is_some()));
        [(self.user, user)].into_iter().chain(group)
    }
}

/// A user or group part as a number to look up in an account file: decimal with an optional sign; the empty part is root.
fn account_number(part: &str) -> Option<i64> {
    if part.is_empty() { Some(0) } else { part.parse().ok() }
}

impl Notes<'_> {
    /// What the runtime makes of ids past the usual ones when it starts the process.
    fn at_start(&mut self, people: &mut People, image: &ImageFacts) {
        let accounts = image.accounts.known().filter(|_| !image.covered);
        let large = people.possible.iter().find_map(|(_, person)| person.too_large(accounts));
        let from = || Provenance::rule("the image's account files");
        if let (true, Some(id)) = (self.rules.refuses_large_ids, large) {
            self.refuse(format!("{id} is out of range: runc takes ids up to 2147483647"), from());
            return self.unless_listed(id, image);
        }
        if let Some(reason) = people.possible.iter().find_map(|(_, person)| no_id::refused(person.numbers()))
        {
            self.refuse(reason, from());
        }
        no_id::note(&mut self.facts);
        for (_, person) in &mut people.possible {
            person.uid = person.uid.map(no_id::after_setting);
            person.gid = person.gid.map(no_id::after_setting);
        }
    }

    /// A number out of range is taken where an account file has it, which may not be known.
    fn unless_listed(&mut self, number: impl std::fmt::Display, image: &ImageFacts) {
        let known = image.accounts.known().is_some_and(|accounts| accounts.incomplete.is_none());
        if !known || image.covered {
            let text = format!("no account of image {} has the number {number}", self.image_name);
            self.assumptions.push(text.into());
        }
    }

    /// `USER` or `USER:GROUP`; what an empty group part means differs.
    fn split<'s>(&self, user: &'s str) -> Parts<'s> {
        let mut parts = user.split(':');
        let user = parts.next().unwrap_or_default();
        let written = parts.next();
        let group = written.filter(|part| !part.is_empty());
        // `1000:` names a group to some runtimes, the empty one, and no group to others.
        let explicit = group.is_some() || written.is_some() && self.rules.empty_group_is_explicit;
        Parts { user, group, explicit }
    }

    fn people(&mut self, asked: &PlainIdentity, image: &ImageFacts) -> People {
        if let Some(unknown) = &asked.untold {
            return self.any_user(unknown.clone(), "it");
        }
        let given = asked.user.clone().filter(|user| !user.value.is_empty());
        let by_image = given.is_none();
        let starter = self.terms.starter.map(|(uid, gid)| {
            let rule = Provenance::rule("keep-id: nobody is named, so who starts the engine");
            Fact::new(format!("{uid}:{gid}"), rule)
        });
        let user = match given {
            Some(user) => Some(user),
            // An empty user in a description leaves the image's in force, as one that is left out does.
            None => match &image.user {
                Knowledge::Unknown => {
                    let settle = "give `user` on the container or under `images:`, or let the image be looked for with --images-from";
                    let fact = format!("the user of image {}", self.image_name);
                    let people = self.any_user(Unknown::new(&fact, settle), "the image");
                    return with_starter(people, self.terms.starter);
                }
                Knowledge::Known(user) => user.clone().filter(|user| !user.value.is_empty()).or(starter),
            },
        };
        let nobody = user.is_none();
        let root = || Fact::new(String::new(), Provenance::rule("the image has no USER, so root"));
        let user = user.unwrap_or_else(root);
        let parts = self.split(&user.value);
        for (part, listed) in parts.listed(image.accounts.known()) {
            if !listed && out_of_range(part) {
                self.refuse(
                    format!("`{part}`: uids and gids must be in range 0-2147483647"),
                    user.from.clone(),
                );
                self.unless_listed(part, image);
            }
        }
        let listed = match self.rules.listing {
            Listing::Always => true,
            Listing::UnlessNobodyNamesAUser => !nobody,
            Listing::Never => false,
        };
        match &image.accounts {
            Knowledge::Unknown => self.without_accounts(&user, listed),
            Knowledge::Known(accounts) => {
                let roots = by_image && !nobody && self.rules.image_user_gets_roots_groups;
                match self.look_up(&user, accounts, listed, roots) {
                    Ok(people) if nobody && self.rules.nobody_has_group_0 => self.with_group_0(people),
                    Ok(people) => people,
                    // A layer that could not be read may hold the line that is missing.
                    Err(_) if accounts.incomplete.is_some() => self.without_accounts(&user, listed),
                    Err(reason) => {
                        self.refuse(reason, user.from.clone());
                        let nobody = Held::Unnumbered;
                        People::one(Person { uid: nobody, gid: nobody, groups: Vec::new(), name: None })
                    }
                }
            }
        }
    }

    /// Podman takes nobody's group from the accounts where nobody is named.
    fn with_group_0(&mut self, mut people: People) -> People {
        for (_, person) in &mut people.possible {
            person.gid = Held::Id(0);
        }
        self.facts.retain(|fact| fact.field != IdentityField::Gid);
        self.fact(IdentityField::Gid, 0, Provenance::rule("nobody is named, so group 0"));
        people
    }

    /// The user is not given; `runs` is what runs as it.
    fn any_user(&mut self, unknown: Unknown, runs: &str) -> People {
        self.fact(IdentityField::Uid, "0 or an ordinary user's", Provenance::Unknown(unknown.fact.clone()));
        let person = |(when, uid, gid)| (when, Person { uid, gid, groups: vec![gid], name: None });
        People {
            possible: untold::users(None, runs).into_iter().map(person).collect(),
            question: Some(unknown),
        }
    }

    /// The user is given, the account files are not.
    fn without_accounts(&mut self, user: &Fact<String>, listed: bool) -> People {
        let Parts { user: user_part, group, .. } = self.split(&user.value);
        let number = user_number(user_part);
        // Nothing forbids a root line with another uid, and no image has one: that is named as an assumption below.
        let root = (user_part == "root").then_some(0);
        let uid = number.or(root);
        match number {
            Some(uid) => self.fact(IdentityField::Uid, uid, user.from.clone()),
            None => self.fact(IdentityField::Uid, format!("that of `{user_part}`"), user.from.clone()),
        }
        match (number, uid) {
            (None, Some(_)) => self.assumptions.push(untold::ROOT_ACCOUNT.into()),
            (None, None) => self.assumptions.push(untold::ordinary_account(user_part, self.image_name)),
            (Some(_), _) => {}
        }
        let name = number.is_none().then(|| user_part.to_owned());
        let groups = |gid| if listed { vec![gid] } else { Vec::new() };
        let person = |gid| Person { uid: uid.into(), gid, groups: groups(gid), name: name.clone() };
        if let Some(part) = group {
            let gid = user_number(part);
            let value = gid.map_or_else(|| format!("that of `{part}`"), |gid| gid.to_string());
            self.fact(IdentityField::Gid, value, user.from.clone());
            return People::one(person(gid.into()));
        }
        self.assumptions.push(untold::no_memberships(self.image_name));
        match (number, uid) {
            (_, Some(0)) => {
                self.fact(IdentityField::Gid, 0, Provenance::Assumption(untold::ROOT_GROUP.into()));
                self.assumptions.push(untold::ROOT_GROUP.into());
                People::one(person(Held::Id(0)))
            }
            (None, _) => People::one(person(Held::Unnumbered)),
            (Some(uid), _) => {
                let fact = format!("the account files of image {}", self.image_name);
                let unknown = Unknown::new(&fact, "give `accounts` for the image, or a group part of `user`");
                self.fact(
                    IdentityField::Gid,
                    "0, or the account's",
                    Provenance::Unknown(unknown.fact.clone()),
                );
                let possible = untold::primary_groups(uid).map(|(when, gid)| (when, person(gid))).into();
                People { possible, question: Some(unknown) }
            }
        }
    }

    /// Everything is given. With `roots` the supplementary groups are those of root.
    fn look_up(
        &mut self,
        user: &Fact<String>,
        known: &Accounts,
        listed: bool,
        roots: bool,
    ) -> Result<People, String> {
        let parts = self.split(&user.value);
        let line = match account_number(parts.user) {
            Some(uid) => known.user_by_uid(uid),
            None => known.user_by_name(parts.user),
        };
        let uid = line.as_ref().map(|(line, _)| line.uid).or(user_number(parts.user));
        let uid = uid.ok_or_else(|| format!("no passwd line of the image has the name `{}`", parts.user))?;
        let (gid, gid_from) = match (parts.group, &line) {
            (Some(part), _) => {
                let line = match account_number(part) {
                    Some(gid) => known.group_by_gid(gid),
                    None => known.group_by_name(part),
                };
                let gid = line.map(|(line, _)| line.gid).or(user_number(part));
                let lost = || format!("no group line of the image has the name `{part}`");
                (gid.ok_or_else(lost)?, user.from.clone())
            }
            (None, Some((line, place))) => (line.gid, place.clone()),
            // Group 0 follows from there being no line, which no one can say of half a file.
            (None, None) if known.incomplete.is_some() => return Err("no line".to_owned()),
            (None, None) => (0, Provenance::rule("no account and no group part, so group 0")),
        };
        self.fact(IdentityField::Uid, uid, user.from.clone());
        let name = line.as_ref().map(|(line, _)| line.name.clone());
        match &line {
            Some((line, place)) => self.fact(IdentityField::Name, &line.name, place.clone()),
            None => self.fact(IdentityField::Name, "none", Provenance::rule("no passwd line has that uid")),
        }
        self.fact(IdentityField::Gid, gid, gid_from);
        let mut groups = if listed { vec![gid] } else { Vec::new() };
        let member = if roots {
            Some("root")
        } else if parts.explicit {
            None
        } else {
            name.as_deref()
        };
        // A group part drops the memberships of the group file (docs/facts/runtimes.md 1.1).
        for (line, place) in member.into_iter().flat_map(|name| known.memberships(name)) {
            if self.rules.passes_over_large_memberships && !(0..LARGEST.into()).contains(&line.number()) {
                let value = format!("not {}, which Podman passes over", line.number());
                self.fact(IdentityField::Group, value, place);
            } else if self.lacks(line.gid) {
                let value =
                    format!("not {}, which its user namespace lacks: Podman passes over it", line.gid);
                self.fact(IdentityField::Group, value, place);
            } else if !groups.contains(&line.gid) {
                self.fact(IdentityField::Group, line.gid, place);
                groups.push(line.gid);
            }
        }
        if member.is_some() && known.incomplete.is_some() {
            let text = format!("no further group of image {} lists the user as a member", self.image_name);
            self.assumptions.push(text.into());
        }
        let groups = groups.into_iter().map(Held::Id).collect();
        Ok(People::one(Person { uid: Held::Id(uid), gid: Held::Id(gid), groups, name }))
    }
}
