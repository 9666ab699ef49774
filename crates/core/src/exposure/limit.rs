//! Limits that a strict reader sets: `PATH at-most MODE [owned-by U[:G]]`.

use std::fmt;
use std::sync::Arc;

use super::{Kind, Severity, Single, path_text};
use crate::act::{Owner, quoted, split};
use crate::fact::Fact;
use crate::mode::{FileKind, Mode, symbolic};
use crate::onlooker::{Sight, look};
use crate::question::facts_of;
use crate::stage::{Actor, Stage};
use crate::tree::Marks;
use crate::walk::Follow;

/// The widest a path may be. Programs check that for keys and data directories and refuse to start where it is wider.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Limit {
    /// Whose view counts; everybody's who sees the path where nobody is named.
    pub actor: Option<String>,
    /// The absolute path inside.
    pub path: Vec<u8>,
    /// No other bits may be set.
    pub mode: Mode,
    /// Who must own it, as the actor sees ids.
    pub owner: Option<Owner>,
}

/// A text that is no limit.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error(
    "`{0}` is no limit: write `[ACTOR] PATH at-most MODE [owned-by UID[:GID]]`, such as `/keys/id at-most 0600`"
)]
pub struct LimitError(pub String);

impl std::str::FromStr for Limit {
    type Err = LimitError;

    fn from_str(text: &str) -> Result<Self, LimitError> {
        let refused = || LimitError(text.to_owned());
        let words = split(text).map_err(|_| refused())?;
        let mut words = words.iter();
        let mut next = || words.next().map(|word| word.text.clone());
        let mut first = next().ok_or_else(refused)?;
        let mut actor = None;
        if first.first() != Some(&b'/') {
            actor = Some(String::from_utf8(first).map_err(|_| refused())?);
            first = next().ok_or_else(refused)?;
        }
        if first.first() != Some(&b'/') || next().as_deref() != Some(b"at-most") {
            return Err(refused());
        }
        let text_of = |word: Option<Vec<u8>>| word.and_then(|word| String::from_utf8(word).ok());
        let mode = text_of(next()).and_then(|word| word.parse().ok()).ok_or_else(refused)?;
        let owner = match next() {
            None => None,
            Some(word) if word == b"owned-by" => {
                Some(text_of(next()).and_then(|word| Owner::parse(&word)).ok_or_else(refused)?)
            }
            Some(_) => return Err(refused()),
        };
        if next().is_some() {
            return Err(refused());
        }
        Ok(Self { actor, path: first, mode, owner })
    }
}

impl fmt::Display for Limit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(actor) = &self.actor {
            write!(f, "{} ", quoted(actor.as_bytes()))?;
        }
        write!(f, "{} at-most {}", quoted(&self.path), self.mode)?;
        self.owner.map_or(Ok(()), |owner| write!(f, " owned-by {owner}"))
    }
}

/// Adds a finding for each limit that somebody sees broken.
pub(super) fn check(stage: &Stage, limits: &[Fact<Limit>], singles: &mut Vec<Single>) {
    for limit in limits {
        let named = |actor: &&Actor| match &limit.value.actor {
            Some(name) => stage.actor(name).is_ok_and(|found| std::ptr::eq(found, *actor)),
            None => true,
        };
        for actor in stage.actors.iter().filter(named) {
            singles.extend(broken(stage, actor, limit));
        }
    }
}

fn broken(stage: &Stage, actor: &Actor, limit: &Fact<Limit>) -> Option<Single> {
    let Limit { path, mode, owner, .. } = &limit.value;
    let Ok(Sight::There(place)) = look(stage, &actor.mounts, path, Follow::Links) else { return None };
    let facts = facts_of(stage, actor, place)?;
    let (found, uid, gid) = (facts.mode?, facts.uid?, facts.gid?);
    let tree = &stage.source(place.source).tree;
    let id = place.inode?;
    let too_wide = found.without(*mode);
    let wrong_owner = owner.is_some_and(|owner| {
        owner.uid.is_some_and(|told| told != uid.raw()) || owner.gid.is_some_and(|told| told != gid.raw())
    });
    if too_wide == Mode::default() && !wrong_owner {
        return None;
    }
    let step = tree.inode(id).marks.has(Marks::GROUP_STEP);
    let why = match (step, too_wide == Mode::default()) {
        (true, false) => {
            "; the filesystem-group step is what widens it, so narrow it again after that step, or keep it on a volume of its own"
        }
        (_, _) => "",
    };
    let noun = if facts.kind == FileKind::Directory { "data directory" } else { "key" };
    let wider = match (too_wide == Mode::default(), owner.filter(|_| wrong_owner)) {
        (false, None) => format!("wider than {mode}"),
        (true, Some(owner)) => format!("not owned by {owner}"),
        (_, Some(owner)) => format!("wider than {mode} and not owned by {owner}"),
        (true, None) => String::new(),
    };
    let label = actor.mounts.get(place.mount).label.clone();
    Some(Single {
        kind: Kind::TooWide,
        severity: Severity::High,
        on: label.unwrap_or_else(|| stage.source(place.source).name.clone()),
        path: path.clone(),
        actor: Some(actor.name.to_string()),
        fact: format!("{} {found} {uid}:{gid}", symbolic(facts.kind, found)),
        consequence: format!(
            "a program that checks its {noun} refuses {}, which is {wider}{why}",
            path_text(path)
        ),
        from: tree.place(id),
        declared: true,
    })
}

/// The volume at a place, in words.
pub(super) fn on(stage: &Stage, actor: &Actor, place: crate::view::Place) -> Arc<str> {
    let label = actor.mounts.get(place.mount).label.clone();
    label.unwrap_or_else(|| stage.source(place.source).name.clone())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_limit_reads_back_as_it_prints() {
        for text in [
            "/keys/id at-most 0600",
            "gauge /keys/id at-most 0600 owned-by 7101",
            "\"/a b\" at-most 0750 owned-by 7101:7200",
        ] {
            assert_eq!(text.parse::<Limit>().unwrap().to_string(), text);
        }
        for text in [
            "",
            "/k",
            "/k at-most",
            "/k at-most rw",
            "k at-most 0600",
            "/k at-most 0600 by 3",
            "/k at-most 0600 owned-by x",
            "/k at-most 0600 owned-by 3 4",
        ] {
            assert!(text.parse::<Limit>().is_err(), "{text}");
        }
    }
}
