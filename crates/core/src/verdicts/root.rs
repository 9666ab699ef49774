//! The verdict about the root of what a mount shows, which a sweep begins at.

use mivask_model::mode::FileKind;
use mivask_model::mount::MountId;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::settle::Outcome;
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

use super::Verdict;
use crate::question::{Cell, Column, Ending, Endings, PerColumn, access, ending_at};

/// What can be done to it at `at`; `None` where nobody knows what shows.
pub(super) fn root(stage: &Stage, actor: &Actor, (number, at): (MountId, &[u8])) -> Option<Verdict> {
    let mount = actor.mounts.get(number);
    let (source, inode) = (mount.variants[0].source, mount.root?);
    let kind = stage.source(source).tree.inode(inode).kind;
    let endings = if is_plain(stage, actor, (number, at)) { certain(stage, actor, (at, kind)) } else { None };
    let endings = endings.unwrap_or_else(|| asked(stage, actor, (at, kind)));
    Some(Verdict { inode, endings, barrier: None, shut: false })
}

/// Whether one question after the other tells all: nothing about the actor is open, and its path leads to the root without a link.
fn is_plain(stage: &Stage, actor: &Actor, (number, at): (MountId, &[u8])) -> bool {
    let mount = actor.mounts.get(number);
    let there = |follow| match look(&stage.storage, &actor.mounts, at, follow) {
        Ok(Sight::There(place)) => place.mount == number && place.inode == mount.root,
        Ok(Sight::Unlisted | Sight::Missing) | Err(_) => false,
    };
    let certain = actor.refusal().is_none() && actor.needs.is_empty() && actor.credentials.len() == 1;
    certain && there(Follow::Links) && there(Follow::AllButLast)
}

/// How each question ends that makes sense, and by which check; `None` where one of them is open.
fn certain(stage: &Stage, actor: &Actor, (at, kind): (&[u8], FileKind)) -> Option<Endings> {
    let mut endings = Endings::default();
    for column in Column::ALL.into_iter().filter(|column| column.makes_sense(kind)) {
        let ending = ending_at(stage, actor, (at, kind), column)?;
        if ending.cell == Cell::Open {
            return None;
        }
        endings.set(column, Ending { cell: ending.cell, check: ending.check, ..Ending::default() });
    }
    Some(endings)
}

/// The same by the question about single paths, which looks into all that is open.
fn asked(stage: &Stage, actor: &Actor, (at, kind): (&[u8], FileKind)) -> Endings {
    let row = access(stage, actor, at);
    let cell = |outcome: &Option<Outcome>| match outcome {
        None => Cell::Void,
        Some(Outcome::Allowed) => Cell::Allowed,
        Some(Outcome::Denied(Some(errno))) => Cell::Denied(*errno),
        Some(Outcome::Denied(None) | Outcome::Depends | Outcome::NeverRuns(_)) => Cell::Open,
    };
    PerColumn::from_fn(|column| match cell(row.cells.of(column)) {
        Cell::Void => Ending::default(),
        cell @ (Cell::Allowed | Cell::Denied(_) | Cell::Open) => {
            let check = ending_at(stage, actor, (at, kind), column).and_then(|ending| ending.check);
            Ending { cell, check, ..Ending::default() }
        }
    })
}
