//! Names of accounts where an act, a change or an expectation has a number.
//!
//! A sentence is rewritten before it is read: `sets-owner keeper:bees` says `sets-owner 5101:5200` where the account files of that
//! place know both. What they do not know stays as it is, and is a mistake like any other text there.

use std::collections::BTreeMap;
use std::sync::Arc;

use mivask_model::accounts::Accounts;
use mivask_model::act::{Subject, split};
use mivask_stage::identity::Knowledge;
use mivask_stage::prepare::{HOST, with_builds};
use mivask_stage::scene::{Image, Scene, Workload};

/// The account files of a scene, by the actors whose places they are in.
#[derive(Clone, Debug, Default)]
pub struct AccountNames {
    /// By actor's name, and by `workload/container`.
    places: BTreeMap<String, Arc<Accounts>>,
    /// Those of images that have them.
    images: BTreeMap<String, Arc<Accounts>>,
    /// Those of the host.
    host: Option<Arc<Accounts>>,
}

/// What a name stands for.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    User,
    Group,
}

impl AccountNames {
    /// The account files that `scene` gives, those of images that it builds included.
    #[must_use]
    pub fn of(scene: &Scene) -> Self {
        let built = with_builds(scene);
        let known = |(name, image): (&String, &Image)| match &image.identity.accounts {
            Knowledge::Known(accounts) => Some((name.clone(), Arc::new(accounts.clone()))),
            Knowledge::Unknown => None,
        };
        let images = built.images.iter().filter_map(known).collect();
        let host = built.host.accounts.clone().map(Arc::new);
        let mut names = Self { images, host, ..Self::default() };
        if let Some(accounts) = &names.host {
            names.places.insert(HOST.to_owned(), accounts.clone());
        }
        scene.workloads.iter().for_each(|workload| names.take(workload));
        names
    }

    /// Adds the places of one more workload.
    pub fn take(&mut self, workload: &Workload) {
        for container in &workload.containers {
            let of_image = container.image.as_ref().and_then(|image| self.images.get(&image.value));
            let accounts = if container.on_host { self.host.as_ref() } else { of_image };
            let Some(accounts) = accounts.cloned() else { continue };
            self.places.insert(format!("{}/{}", workload.name, container.name), accounts.clone());
            self.places.insert(container.name.clone(), accounts);
        }
    }

    /// The account files where the actor of this name is.
    pub(crate) fn place(&self, actor: &str) -> Option<&Accounts> {
        self.places.get(actor).map(|accounts| &**accounts)
    }

    /// The sentence with numbers in place of the names that are known where it speaks of them.
    #[must_use]
    pub fn numbered(&self, sentence: &str) -> String {
        let actor = actor_of(sentence);
        rewritten(sentence, &|kind, name| self.number(actor.as_deref(), kind, name))
    }

    fn number(&self, actor: Option<&str>, kind: Kind, name: &str) -> Option<Found> {
        if let Some(accounts) = actor.and_then(|actor| self.places.get(actor)) {
            return found(accounts, kind, name);
        }
        // Where nobody's place is meant, all who know the name have to agree.
        let everyone = self.images.values().chain(&self.host);
        let mut all = everyone.filter_map(|accounts| found(accounts, kind, name));
        let first = all.next()?;
        all.all(|other| other == first).then_some(first)
    }
}

/// The number of a name, and of a user the primary group.
#[derive(Clone, Copy, PartialEq, Eq)]
struct Found {
    id: u32,
    group: u32,
}

fn found(accounts: &Accounts, kind: Kind, name: &str) -> Option<Found> {
    match kind {
        Kind::User => accounts.user_by_name(name).map(|(line, _)| Found { id: line.uid, group: line.gid }),
        Kind::Group => accounts.group_by_name(name).map(|(line, _)| Found { id: line.gid, group: line.gid }),
    }
}

/// The sentence with some number in place of every name: whether it is well formed can be told by it, and nothing else.
#[must_use]
pub fn with_any_number(sentence: &str) -> String {
    rewritten(sentence, &|_, _| Some(Found { id: 0, group: 0 }))
}

/// Who acts: the first word that is not `for`, `image` or `only`.
fn actor_of(sentence: &str) -> Option<String> {
    let words = split(sentence).ok()?;
    let first = words.iter().position(|word| !matches!(word.text.as_slice(), b"for" | b"image" | b"only"))?;
    let (subject, _) = Subject::of(&words[first..])?;
    Some(subject.actor)
}

type Resolve<'r> = &'r dyn Fn(Kind, &str) -> Option<Found>;

/// How a word has its ids.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Form {
    /// `USER`, `USER:GROUP`, `:GROUP`.
    Owner,
    /// The same; a user alone brings its primary group.
    Account,
    Group,
    /// `user:NAME:rw-,group:NAME:r--`
    Acl,
}

fn rewritten(sentence: &str, resolve: Resolve<'_>) -> String {
    let Ok(words) = split(sentence) else { return sentence.to_owned() };
    let mut out = sentence.to_owned();
    // From the end, so that the places of the words before stay as they are.
    for at in (1..words.len()).rev() {
        let before = words[at - 1].text.as_slice();
        let form = match before {
            b"sets-owner" | b"sets-link-owner" | b"owned-by" | b"leaves" | b"shows" => Form::Owner,
            b"is" if words[at].text.contains(&b':') => Form::Owner,
            b"becomes" => Form::Account,
            b"sets-group" | b"sets-link-group" | b"filesystem-group" => Form::Group,
            // `host joins USER to GROUP` is about names anyway.
            b"joins" if at + 1 == words.len() => Form::Group,
            b"sets-acl" | b"sets-default-acl" => Form::Acl,
            _ => continue,
        };
        // Behind a kind: `is a file keeper:bees 0640`.
        let word = words[at].as_text();
        if let Some(number) = number_of(&word, form, resolve) {
            out.replace_range(words[at].span.clone(), &number);
        }
    }
    kinds_rewritten(&out, resolve)
}

/// `is a file keeper:bees`: the owner comes behind the kind.
fn kinds_rewritten(sentence: &str, resolve: Resolve<'_>) -> String {
    let Ok(words) = split(sentence) else { return sentence.to_owned() };
    let mut out = sentence.to_owned();
    for at in (3..words.len()).rev() {
        let kind = matches!(words[at - 2].text.as_slice(), b"a" | b"an") && words[at - 3].text == b"is";
        if let Some(number) = kind.then(|| number_of(&words[at].as_text(), Form::Owner, resolve)).flatten()
            && words[at].text.contains(&b':')
        {
            out.replace_range(words[at].span.clone(), &number);
        }
    }
    out
}

/// A word with numbers; `None` where there is no name in it, or one that nobody knows.
fn number_of(word: &str, form: Form, resolve: Resolve<'_>) -> Option<String> {
    let is_name =
        |part: &str| !part.is_empty() && part != "*" && !part.bytes().all(|byte| byte.is_ascii_digit());
    let part = |kind: Kind, part: &str| {
        if is_name(part) {
            resolve(kind, part).map(|found| found.id.to_string())
        } else {
            Some(part.to_owned())
        }
    };
    match form {
        Form::Group => is_name(word).then(|| part(Kind::Group, word)).flatten(),
        Form::Acl => {
            let entries: Option<Vec<String>> =
                word.split(',').map(|entry| acl_entry(entry, resolve)).collect();
            entries.map(|entries| entries.join(",")).filter(|entries| entries != word)
        }
        Form::Owner | Form::Account => {
            let (user, group) =
                word.split_once(':').map_or((word, None), |(user, group)| (user, Some(group)));
            if !is_name(user) && !group.is_some_and(is_name) {
                return None;
            }
            if form == Form::Account && group.is_none() {
                return resolve(Kind::User, user).map(|found| format!("{}:{}", found.id, found.group));
            }
            let user = part(Kind::User, user)?;
            Some(match group {
                Some(group) => format!("{user}:{}", part(Kind::Group, group)?),
                None => user,
            })
        }
    }
}

fn acl_entry(entry: &str, resolve: Resolve<'_>) -> Option<String> {
    let parts: Vec<&str> = entry.split(':').collect();
    let [tag, name, access] = parts.as_slice() else { return Some(entry.to_owned()) };
    let kind = match *tag {
        "user" | "u" => Kind::User,
        "group" | "g" => Kind::Group,
        _ => return Some(entry.to_owned()),
    };
    if name.is_empty() || name.bytes().all(|byte| byte.is_ascii_digit()) {
        return Some(entry.to_owned());
    }
    resolve(kind, name).map(|found| format!("{tag}:{}:{access}", found.id))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_stand_where_ids_do() {
        for (text, wanted) in [
            ("a sets-owner keeper:bees on /x", "a sets-owner 0:0 on /x"),
            ("a sets-owner :bees on /x", "a sets-owner :0 on /x"),
            ("a sets-owner 5:bees on \"/x y\"", "a sets-owner 5:0 on \"/x y\""),
            ("a sets-group bees on /sets-group", "a sets-group 0 on /sets-group"),
            (
                "a sets-acl user:keeper:rw-,group::r--,g:bees:r-x on /x",
                "a sets-acl user:0:rw-,group::r--,g:0:r-x on /x",
            ),
            ("a creates /x -> leaves keeper:* 0640", "a creates /x -> leaves 0:* 0640"),
            ("a creates /x -> leaves * 0640", "a creates /x -> leaves * 0640"),
            ("a becomes keeper", "a becomes 0:0"),
            ("a becomes keeper:bees", "a becomes 0:0"),
            ("a joins bees", "a joins 0"),
            ("host joins keeper to bees", "host joins keeper to bees"),
            ("pod filesystem-group bees", "pod filesystem-group 0"),
            ("/x at-most 0600 owned-by keeper", "/x at-most 0600 owned-by 0"),
            ("/x is keeper:bees 0640", "/x is 0:0 0640"),
            ("/x is a file keeper:bees 0640", "/x is a file 0:0 0640"),
            ("/x is a file", "/x is a file"),
            ("a becomes 5:6", "a becomes 5:6"),
        ] {
            assert_eq!(with_any_number(text), wanted);
        }
        assert_eq!(AccountNames::default().numbered("a becomes keeper"), "a becomes keeper");
    }
}
