//! A path held against the widest it may be.

use mivask_model::act::quoted;
use mivask_model::fact::Provenance;
use mivask_model::mode::{FileKind, Mode, symbolic};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::view::Place;
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

use crate::finding::Limit;
use crate::question::facts_of;

/// How a path stands to a limit, as one actor sees it.
#[derive(Debug)]
pub(crate) enum Width {
    /// Nothing is there.
    Absent,
    /// Whether anything is there is not known.
    Unlisted,
    /// It is within: mode and owner in words, as far as they are known.
    Fits(String),
    /// It is not.
    Wide(TooWide),
    /// What is there was not told as far as the limit asks: this is missing.
    Unknown(String),
}

/// What breaks a limit.
#[derive(Debug)]
pub(crate) struct TooWide {
    /// Where it is.
    pub place: Place,
    /// What it is.
    pub kind: FileKind,
    /// Whether its mode is what breaks it, not only its owner.
    pub by_mode: bool,
    /// How, such as `wider than 0600`.
    pub wider: String,
    /// Its mode and owner in words; `?` for what is not known.
    pub fact: String,
    /// Where those were read.
    pub from: Provenance,
}

/// How what is at the limit's path, links followed, stands to it. A part that is known to break it does so whatever the others are.
pub(crate) fn width(stage: &Stage, actor: &Actor, limit: &Limit) -> Width {
    let Limit { path, mode, owner, .. } = limit;
    let place = match look(&stage.storage, &actor.mounts, path, Follow::Links) {
        Ok(Sight::There(place)) => place,
        Ok(Sight::Unlisted) => return Width::Unlisted,
        Ok(Sight::Missing) | Err(_) => return Width::Absent,
    };
    let unknown = || Width::Unknown(format!("owner and mode of {}", quoted(path)));
    let Some(facts) = facts_of(stage, actor, place) else { return unknown() };
    let (uid, gid) = (facts.uid.map(|id| id.raw()), facts.gid.map(|id| id.raw()));
    let owner = owner.unwrap_or_default();
    // `None`: not asked; `Some(None)`: asked, and not known.
    let differs = |wanted: Option<u32>, is: Option<u32>| wanted.map(|wanted| is.map(|is| is != wanted));
    let parts = [differs(owner.uid, uid), differs(owner.gid, gid)];
    let wrong_owner = parts.contains(&Some(Some(true)));
    let by_mode = facts.mode.is_some_and(|found| found.without(*mode) != Mode::default());
    let id = |id: Option<u32>| id.map_or_else(|| "?".to_owned(), |id| id.to_string());
    let shown = facts.mode.map_or_else(
        || facts.kind.noun().to_owned(),
        |mode| format!("{} {mode}", symbolic(facts.kind, mode)),
    );
    let fact = format!("{shown} {}:{}", id(uid), id(gid));
    let wider = match (by_mode, wrong_owner) {
        (true, false) => format!("wider than {mode}"),
        (false, true) => format!("not owned by {owner}"),
        (true, true) => format!("wider than {mode} and not owned by {owner}"),
        (false, false) if facts.mode.is_none() || parts.contains(&Some(None)) => return unknown(),
        (false, false) => return Width::Fits(fact),
    };
    let from = place.inode.map_or_else(
        || Provenance::rule("what is mounted there"),
        |inode| stage.source(place.source).tree.place(inode),
    );
    Width::Wide(TooWide { place, kind: facts.kind, by_mode, wider, fact, from })
}
