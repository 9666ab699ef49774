//! Whether someone sees a limit broken.

use std::sync::Arc;

use mivask_model::fact::{Fact, Provenance};
use mivask_model::glob::{Globs, Matcher, fixed_part, is_pattern};
use mivask_model::mode::{FileKind, Mode, symbolic};
use mivask_model::tree::Marks;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::view::Place;
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

use super::{Kind, PathPatternError, Severity, Single, path_text};
use crate::finding::Limit;
use crate::question::{Event, facts_of, follow};

/// Adds a finding for each limit that someone sees broken, of a pattern for each path that it matches.
///
/// # Errors
/// A path is not a pattern.
pub(super) fn check(
    stage: &Stage,
    limits: &[Fact<Limit>],
    globs: &dyn Globs,
    singles: &mut Vec<Single>,
) -> Result<(), PathPatternError> {
    for limit in limits {
        let pattern = &limit.value.path;
        let matches = is_pattern(pattern).then(|| globs.matcher(pattern)).transpose();
        let matches = matches.map_err(|error| PathPatternError {
            from: limit.from.clone(),
            pattern: path_text(pattern),
            error,
        })?;
        let named = |actor: &&Actor| match &limit.value.actor {
            Some(name) => stage.actor(name).is_ok_and(|found| std::ptr::eq(found, *actor)),
            None => true,
        };
        for actor in stage.actors.iter().filter(named) {
            match &matches {
                None => singles.extend(broken(stage, actor, limit)),
                Some(matches) => each_broken(stage, actor, limit, matches, singles),
            }
        }
    }
    Ok(())
}

/// What breaks a limit of many paths, whoever can reach them.
fn each_broken(
    stage: &Stage,
    actor: &Actor,
    limit: &Fact<Limit>,
    matches: &Matcher,
    singles: &mut Vec<Single>,
) {
    // What cannot be swept is not there, or not known.
    let _ = follow(stage, actor, 0, fixed_part(&limit.value.path), |event| {
        // What a link points at has paths of its own.
        if let Event::Entry(swept) = event
            && swept.kind != FileKind::Link
            && matches(swept.path)
        {
            let limit = limit.clone().map(|one| Limit { path: swept.path.to_vec(), ..one });
            singles.extend(broken(stage, actor, &limit));
        }
    });
}

/// What breaks a limit.
pub(crate) struct TooWide {
    /// Where it is.
    place: Place,
    /// What it is.
    kind: FileKind,
    /// Whether its mode is what breaks it, not only its owner.
    by_mode: bool,
    /// How, such as `wider than 0600`.
    pub wider: String,
    /// Its mode and owner in words.
    pub fact: String,
    /// Where those were read.
    pub from: Provenance,
}

/// Whether `actor` sees `limit` broken; not where owner and mode are unknown.
pub(crate) fn too_wide(stage: &Stage, actor: &Actor, limit: &Limit) -> Option<TooWide> {
    let Limit { path, mode, owner, .. } = limit;
    let Ok(Sight::There(place)) = look(&stage.storage, &actor.mounts, path, Follow::Links) else {
        return None;
    };
    let facts = facts_of(stage, actor, place)?;
    let found = facts.mode?;
    let uid = facts.uid?;
    let gid = facts.gid?;
    let by_mode = found.without(*mode) != Mode::default();
    let wrong_owner = owner.filter(|owner| {
        owner.uid.is_some_and(|given| given != uid.raw()) || owner.gid.is_some_and(|given| given != gid.raw())
    });
    let wider = match (by_mode, wrong_owner) {
        (true, None) => format!("wider than {mode}"),
        (false, Some(owner)) => format!("not owned by {owner}"),
        (true, Some(owner)) => format!("wider than {mode} and not owned by {owner}"),
        (false, None) => return None,
    };
    let fact = format!("{} {found} {uid}:{gid}", symbolic(facts.kind, found));
    let from = stage.source(place.source).tree.place(place.inode?);
    Some(TooWide { place, kind: facts.kind, by_mode, wider, fact, from })
}

fn broken(stage: &Stage, actor: &Actor, limit: &Fact<Limit>) -> Option<Single> {
    let path = &limit.value.path;
    let TooWide { place, kind, by_mode, wider, fact, from } = too_wide(stage, actor, &limit.value)?;
    let step = stage.source(place.source).tree.inode(place.inode?).marks.has(Marks::GROUP_STEP);
    let why = if step && by_mode {
        "; the filesystem-group step is what widens it, so narrow it again after that step, or keep it on a volume of its own"
    } else {
        ""
    };
    let noun = if kind == FileKind::Directory { "data directory" } else { "key" };
    Some(Single {
        kind: Kind::TooWide,
        severity: Severity::High,
        on: on(stage, actor, place),
        path: path.clone(),
        actor: Some(actor.name.to_string()),
        fact,
        consequence: format!(
            "a program that checks its {noun} refuses {}, which is {wider}{why}",
            path_text(path)
        ),
        from,
        declared: true,
    })
}

/// The volume at a place, in words.
pub(super) fn on(stage: &Stage, actor: &Actor, place: Place) -> Arc<str> {
    let label = actor.mounts.get(place.mount).facts.label.clone();
    label.unwrap_or_else(|| stage.source(place.source).facts.name.clone())
}
