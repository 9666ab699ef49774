//! Whether somebody sees a limit broken.

use std::sync::Arc;

use super::{Kind, Severity, Single, path_text};
use crate::fact::Fact;
use crate::finding::Limit;
use crate::mode::{FileKind, Mode, symbolic};
use crate::onlooker::{Sight, look};
use crate::question::facts_of;
use crate::stage::{Actor, Stage};
use crate::tree::Marks;
use crate::walk::Follow;

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
