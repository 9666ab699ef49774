//! Who a container is that the scene file itself describes (semantics 1.1 to 1.4).

use std::sync::Arc;

use super::capability_sets::cri_set;
use super::kubernetes::user_number;
use super::untold;
use super::{Identity, IdentityFact, ImageFacts, Knowledge, PlainIdentity, Refusal, Resolved};
use crate::accounts::Accounts;
use crate::caps::CapabilitySet;
use crate::fact::{Fact, Provenance, Unknown};
use crate::ids::{InsideGid, InsideUid, UNSPECIFIED_ID, UserNamespace};
use crate::mode::Mode;

struct Person {
    uid: u32,
    gid: u32,
    groups: Vec<u32>,
    name: Option<String>,
}

/// Who it may be, each with what must hold for it, and the fact that tells them apart.
struct People {
    possible: Vec<(Arc<str>, Person)>,
    question: Option<Unknown>,
}

impl People {
    fn one(person: Person) -> Self {
        Self { possible: vec![(Arc::from(""), person)], question: None }
    }
}

/// Resolves the identity of a container of the scene file.
///
/// The user string is `UID`, `NAME`, `UID:GID` or names: a name needs an account; a group part
/// drops the memberships of the group file. Never fails: a user that does not resolve carries a
/// [`Refusal`], a fact that nobody told becomes several possible identities.
#[must_use]
pub fn plain_identity(asked: &PlainIdentity, image: &ImageFacts, image_name: &str) -> Resolved {
    let mut notes = Notes { image_name, facts: Vec::new(), assumptions: Vec::new() };
    let user = asked.user.clone().map_or_else(|| image.user.clone(), |user| Knowledge::Known(Some(user)));
    let mut refusal = None;
    let people = match user {
        Knowledge::Unknown => notes.any_user(),
        Knowledge::Known(user) => {
            let root = || Fact::new(String::new(), Provenance::rule("the image has no USER, so root"));
            let user = user.unwrap_or_else(root);
            match &image.accounts {
                Knowledge::Unknown => notes.without_accounts(&user),
                Knowledge::Known(accounts) => notes.look_up(&user, accounts).unwrap_or_else(|reason| {
                    let from = user.from.clone();
                    refusal = Some(Refusal { class: "start refused", reason, from, whole_pod: false });
                    People::one(Person {
                        uid: UNSPECIFIED_ID,
                        gid: UNSPECIFIED_ID,
                        groups: Vec::new(),
                        name: None,
                    })
                }),
            }
        }
    };
    let name = people.possible[0].1.name.clone();
    let added: Vec<&Fact<u32>> = asked.groups.iter().chain(&asked.filesystem_group).collect();
    for group in &added {
        notes.fact("group", group.value, group.from.clone());
    }
    let privileges = Privileges::of(asked, &mut notes);
    let possible = people.possible.into_iter();
    let possible = possible.map(|(when, person)| (when, privileges.identity(person, &added))).collect();
    let Notes { facts, assumptions, .. } = notes;
    Resolved { possible, question: people.question, name, facts, refusal, assumptions }
}

/// The facts behind an identity as they are found.
struct Notes<'a> {
    image_name: &'a str,
    facts: Vec<IdentityFact>,
    assumptions: Vec<Arc<str>>,
}

/// `USER` or `USER:GROUP`; an empty group part counts as none.
fn split(user: &str) -> (&str, Option<&str>) {
    let mut parts = user.split(':');
    let user_part = parts.next().unwrap_or_default();
    (user_part, parts.next().filter(|part| !part.is_empty()))
}

impl Notes<'_> {
    fn fact(&mut self, field: &'static str, value: impl ToString, from: Provenance) {
        self.facts.push(IdentityFact { field, value: value.to_string(), from });
    }

    /// Nobody told the user.
    fn any_user(&mut self) -> People {
        let settle = "give `user` on the container, or under `images:`";
        let unknown = Unknown::new(&format!("the user of image {}", self.image_name), settle);
        self.fact("uid", "0 or an ordinary user's", Provenance::Unknown(unknown.fact.clone()));
        let person = |(when, uid, gid)| (when, Person { uid, gid, groups: vec![gid], name: None });
        People { possible: untold::users(None).into_iter().map(person).collect(), question: Some(unknown) }
    }

    /// The user is told, the account files are not.
    fn without_accounts(&mut self, user: &Fact<String>) -> People {
        let (user_part, group_part) = split(&user.value);
        let number = user_number(user_part);
        let uid = number.unwrap_or(if user_part == "root" { 0 } else { UNSPECIFIED_ID });
        match number {
            Some(uid) => self.fact("uid", uid, user.from.clone()),
            None => self.fact("uid", format!("that of `{user_part}`"), user.from.clone()),
        }
        match (number, uid) {
            (None, 0) => self.assumptions.push(untold::ROOT_ACCOUNT.into()),
            (None, _) => self.assumptions.push(untold::ordinary_account(user_part, self.image_name)),
            (Some(_), _) => {}
        }
        let name = number.is_none().then(|| user_part.to_owned());
        let person = |gid| Person { uid, gid, groups: vec![gid], name: name.clone() };
        if let Some(part) = group_part {
            let gid = user_number(part).unwrap_or(UNSPECIFIED_ID);
            self.fact(
                "gid",
                if gid == UNSPECIFIED_ID { format!("that of `{part}`") } else { gid.to_string() },
                user.from.clone(),
            );
            return People::one(person(gid));
        }
        self.assumptions.push(untold::no_memberships(self.image_name));
        match (number, uid) {
            (_, 0) => {
                self.fact("gid", 0, Provenance::Assumption(untold::ROOT_GROUP.into()));
                self.assumptions.push(untold::ROOT_GROUP.into());
                People::one(person(0))
            }
            (None, _) => People::one(person(UNSPECIFIED_ID)),
            (Some(uid), _) => {
                let fact = format!("the account files of image {}", self.image_name);
                let unknown = Unknown::new(&fact, "give `accounts` for the image, or a group part of `user`");
                self.fact("gid", "0, or the account's", Provenance::Unknown(unknown.fact.clone()));
                let possible = untold::primary_groups(uid).map(|(when, gid)| (when, person(gid))).into();
                People { possible, question: Some(unknown) }
            }
        }
    }

    /// Everything is told.
    fn look_up(&mut self, user: &Fact<String>, known: &Accounts) -> Result<People, String> {
        let (user_part, group_part) = split(&user.value);
        let number = user_number(user_part);
        let line = match number {
            Some(uid) => known.user_by_uid(uid),
            None => known.user_by_name(user_part),
        };
        let uid = number.or(line.as_ref().map(|(line, _)| line.uid));
        let uid = uid.ok_or_else(|| format!("no passwd line of the image has the name `{user_part}`"))?;
        self.fact("uid", uid, user.from.clone());
        let name = line.as_ref().map(|(line, _)| line.name.clone());
        match &line {
            Some((line, place)) => self.fact("name", &line.name, place.clone()),
            None => self.fact("name", "none", Provenance::rule("no passwd line has that uid")),
        }
        let (gid, gid_from) = match (group_part, &line) {
            (Some(part), _) => {
                let by_name = || known.group_by_name(part).map(|(line, _)| line.gid);
                let gid = user_number(part).or_else(by_name);
                let lost = || format!("no group line of the image has the name `{part}`");
                (gid.ok_or_else(lost)?, user.from.clone())
            }
            (None, Some((line, place))) => (line.gid, place.clone()),
            (None, None) => (0, Provenance::rule("no account and no group part, so group 0")),
        };
        self.fact("gid", gid, gid_from);
        let mut groups = vec![gid];
        // A group part drops the memberships of the group file (facts/runtimes.md 1.1).
        if let (Some(name), None) = (&name, group_part) {
            for (member, place) in known.memberships(name).filter(|(line, _)| line.gid != gid) {
                self.fact("group", member.gid, place);
                groups.push(member.gid);
            }
        }
        Ok(People::one(Person { uid, gid, groups, name }))
    }
}

struct Privileges {
    bounding: CapabilitySet,
    effective: Option<CapabilitySet>,
    umask: Mode,
    no_new_privileges: bool,
}

impl Privileges {
    fn of(asked: &PlainIdentity, notes: &mut Notes<'_>) -> Self {
        let privileged = asked.privileged.as_ref().is_some_and(|fact| fact.value);
        let (bounding, _) = cri_set(&asked.capabilities, privileged);
        let umask = asked
            .umask
            .clone()
            .unwrap_or_else(|| Fact::new(Mode::new(0o022), Provenance::rule("the runtime's default umask")));
        notes.fact("umask", umask.value, umask.from.clone());
        if let Some(effective) = &asked.effective {
            notes.fact("effective", effective.value, effective.from.clone());
        }
        let no_new_privileges = asked.no_new_privileges.as_ref().is_some_and(|fact| fact.value);
        Self {
            bounding,
            effective: asked.effective.as_ref().map(|fact| fact.value),
            umask: umask.value,
            no_new_privileges,
        }
    }

    fn identity(&self, person: Person, added: &[&Fact<u32>]) -> Identity {
        let derived = if person.uid == 0 { self.bounding } else { CapabilitySet::EMPTY };
        let in_force = self.effective.unwrap_or(derived);
        let all = person.groups.into_iter().chain(added.iter().map(|group| group.value));
        let mut groups: Vec<InsideGid> = all.map(InsideGid::new).collect();
        groups.sort_unstable();
        groups.dedup();
        Identity {
            uid: InsideUid::new(person.uid),
            gid: InsideGid::new(person.gid),
            groups,
            effective: in_force,
            permitted: in_force,
            bounding: self.bounding,
            umask: self.umask,
            no_new_privileges: self.no_new_privileges,
            namespace: Arc::new(UserNamespace::initial()),
        }
    }
}
