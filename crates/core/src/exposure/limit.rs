//! Whether someone sees a limit broken.

use std::sync::Arc;

use mivask_model::fact::{Fact, Provenance};
use mivask_model::glob::{Globs, Matcher, fixed_part, is_pattern};
use mivask_model::mode::FileKind;
use mivask_model::tree::Marks;
use mivask_rules::view::Place;
use mivask_stage::stage::{Actor, Stage};

use super::{Kind, PathPatternError, Severity, Single, path_text};
use crate::finding::Limit;
use crate::question::{Event, follow};
use crate::width::{TooWide, Width, width};

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

fn broken(stage: &Stage, actor: &Actor, limit: &Fact<Limit>) -> Option<Single> {
    let path = &limit.value.path;
    let TooWide { place, kind, by_mode, wider, fact, from } = match width(stage, actor, &limit.value) {
        Width::Wide(wide) => wide,
        Width::Unknown(_) => return Some(unknown(actor, limit)),
        // Whoever is not named need not have it.
        Width::Unlisted if limit.value.actor.is_some() => return Some(unknown(actor, limit)),
        Width::Unlisted | Width::Absent | Width::Fits(_) => return None,
    };
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
        usual: false,
    })
}

/// What nobody told may break the limit, so it does not hold.
fn unknown(actor: &Actor, limit: &Fact<Limit>) -> Single {
    let path = path_text(&limit.value.path);
    Single {
        kind: Kind::TooWide,
        severity: Severity::Medium,
        on: actor.name.clone(),
        path: limit.value.path.clone(),
        actor: Some(actor.name.to_string()),
        fact: "owner or mode not known".to_owned(),
        consequence: format!("whether {path} is too wide for its program depends on what nobody told of it"),
        from: Provenance::Unknown(format!("owner and mode of {path}").into()),
        declared: true,
        usual: false,
    }
}

/// The volume at a place, in words.
pub(super) fn on(stage: &Stage, actor: &Actor, place: Place) -> Arc<str> {
    let label = actor.mounts.get(place.mount).facts.label.clone();
    label.unwrap_or_else(|| stage.source(place.source).facts.name.clone())
}
