//! Who a container is that the scene file itself describes (semantics 1.1 to 1.4).

use std::sync::Arc;

use super::capability_sets::cri_set;
use super::kubernetes::user_number;
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

/// Resolves the identity of a container of the scene file.
///
/// The user string is `UID`, `NAME`, `UID:GID` or names: a name needs an account; a group part
/// drops the memberships of the group file. Never fails: a user that does not resolve carries a
/// [`Refusal`], a fact that nobody told becomes several possible identities.
#[must_use]
pub fn plain_identity(asked: &PlainIdentity, image: &ImageFacts, image_name: &str) -> Resolved {
    let mut facts = Vec::new();
    let mut assumptions = Vec::new();
    let user = asked.user.clone().map_or_else(|| image.user.clone(), |user| Knowledge::Known(Some(user)));
    let mut refusal = None;
    let mut question = None;
    let people = match user {
        Knowledge::Known(user) => {
            let user = user.unwrap_or_else(|| {
                Fact::new(String::new(), Provenance::rule("the image has no USER, so root"))
            });
            match look_up(&user, &image.accounts, &mut facts, &mut assumptions) {
                Ok(person) => vec![(Arc::from(""), person)],
                Err(reason) => {
                    refusal =
                        Some(Refusal { class: "start refused", reason, from: user.from, whole_pod: false });
                    vec![(Arc::from(""), ordinary())]
                }
            }
        }
        Knowledge::Unknown => {
            let settle = "give `user` on the container, or under `images:`";
            let unknown = Unknown::new(&format!("the user of image {image_name}"), settle);
            facts.push(fact(
                "uid",
                "0 or an ordinary user's".to_owned(),
                Provenance::Unknown(unknown.fact.clone()),
            ));
            question = Some(unknown);
            let root = Person { uid: 0, gid: 0, groups: vec![0], name: None };
            vec![
                (Arc::from("the image runs as root"), root),
                (Arc::from("the image runs as an ordinary user with a group of its own"), ordinary()),
                (
                    Arc::from("the image runs as an ordinary user without an account, so with group 0"),
                    Person { gid: 0, groups: vec![0], ..ordinary() },
                ),
            ]
        }
    };
    let name = people[0].1.name.clone();
    let added: Vec<&Fact<u32>> = asked.groups.iter().chain(&asked.filesystem_group).collect();
    facts.extend(added.iter().map(|group| fact("group", group.value.to_string(), group.from.clone())));
    let privileges = Privileges::of(asked, &mut facts);
    let possible =
        people.into_iter().map(|(when, person)| (when, privileges.identity(person, &added))).collect();
    let accounts_known = matches!(image.accounts, Knowledge::Known(_));
    Resolved { possible, question, name, accounts_known, facts, refusal, assumptions }
}

fn ordinary() -> Person {
    Person { uid: UNSPECIFIED_ID, gid: UNSPECIFIED_ID, groups: vec![UNSPECIFIED_ID], name: None }
}

fn fact(field: &'static str, value: String, from: Provenance) -> IdentityFact {
    IdentityFact { field, value, from }
}

fn look_up(
    user: &Fact<String>,
    accounts: &Knowledge<Accounts>,
    facts: &mut Vec<IdentityFact>,
    assumptions: &mut Vec<Arc<str>>,
) -> Result<Person, String> {
    let mut parts = user.value.split(':');
    let user_part = parts.next().unwrap_or_default();
    let group_part = parts.next().filter(|part| !part.is_empty());
    let none = Accounts::default();
    let known = match accounts {
        Knowledge::Known(accounts) => accounts,
        Knowledge::Unknown => {
            let text = "the account files, which were not given, say nothing about this user";
            assumptions.push(text.into());
            &none
        }
    };
    let number = user_number(user_part);
    let line = match number {
        Some(uid) => known.user_by_uid(uid),
        None => known.user_by_name(user_part),
    };
    let uid = number.or(line.as_ref().map(|(line, _)| line.uid));
    let uid = uid.ok_or_else(|| format!("no passwd line of the image has the name `{user_part}`"))?;
    facts.push(fact("uid", uid.to_string(), user.from.clone()));
    let name = line.as_ref().map(|(line, _)| line.name.clone());
    match &line {
        Some((line, place)) => facts.push(fact("name", line.name.clone(), place.clone())),
        None => facts.push(fact("name", "none".to_owned(), Provenance::rule("no passwd line has that uid"))),
    }
    let (gid, gid_from) = match group_part {
        Some(part) => {
            let by_name = || known.group_by_name(part).map(|(line, _)| line.gid);
            let gid = user_number(part).or_else(by_name);
            (
                gid.ok_or_else(|| format!("no group line of the image has the name `{part}`"))?,
                user.from.clone(),
            )
        }
        None => match &line {
            Some((line, place)) => (line.gid, place.clone()),
            None => (0, Provenance::rule("no account and no group part, so group 0")),
        },
    };
    facts.push(fact("gid", gid.to_string(), gid_from));
    let mut groups = vec![gid];
    // A group part drops the memberships of the group file (facts/runtimes.md 1.1).
    if let (Some(name), None) = (&name, group_part) {
        for (member, place) in known.memberships(name).filter(|(line, _)| line.gid != gid) {
            facts.push(fact("group", member.gid.to_string(), place));
            groups.push(member.gid);
        }
    }
    Ok(Person { uid, gid, groups, name })
}

struct Privileges {
    bounding: CapabilitySet,
    effective: Option<CapabilitySet>,
    umask: Mode,
    no_new_privileges: bool,
}

impl Privileges {
    fn of(asked: &PlainIdentity, facts: &mut Vec<IdentityFact>) -> Self {
        let privileged = asked.privileged.as_ref().is_some_and(|fact| fact.value);
        let (bounding, _) = cri_set(&asked.capabilities, privileged);
        let umask = asked
            .umask
            .clone()
            .unwrap_or_else(|| Fact::new(Mode::new(0o022), Provenance::rule("the runtime's default umask")));
        facts.push(fact("umask", umask.value.to_string(), umask.from.clone()));
        if let Some(effective) = &asked.effective {
            facts.push(fact("effective", effective.value.to_string(), effective.from.clone()));
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
