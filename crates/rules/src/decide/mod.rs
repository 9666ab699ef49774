//! How an act ends, check by check in the kernel's order.

mod acl;
mod after;
mod attributes;
mod create;
mod execute;
mod feature;
mod link;
mod look;
mod may;
mod open;
mod owner;
mod profiled;
mod remove;
mod rename;
mod tag;
mod truncate;
mod unmodelled;
mod writable;

pub mod after_walk;

pub use execute::start_program;

use mivask_model::act::{Owner, Verb};
use mivask_model::mode::{Access, Mode};
use mivask_model::outcome::Verdict;

use crate::imprint::NewKind;
use crate::view::View;
use crate::walk::Follow;
use crate::witness::Witness;
use open::How;
use profiled::Wanted;
use rename::Rename;

/// Decides whether the directory at `path` takes a new entry of `kind`, asked for with `mode`.
///
/// Like creating below it under a name that is certainly free.
///
/// # Errors
/// The errno the kernel would give.
pub fn decide_new_entry<'a, W: Witness>(
    view: &'a View<'a>,
    kind: NewKind,
    mode: Mode,
    path: &'a [u8],
    w: &mut W,
) -> Verdict {
    let mut verdict = create::new_entry(view, kind, mode, path, w);
    if let Some(profile) = view.profile {
        verdict = profiled::weighed((view, profile), verdict, &Wanted::new_entry(path), w);
    }
    if view.unmodelled.is_empty() {
        return verdict;
    }
    unmodelled::weighed(view, verdict, w, |view, w| create::new_entry(view, kind, mode, path, w))
}

/// What is left of the file at `path` once the actor has written to it.
///
/// # Errors
/// What ends the walk.
pub fn decide_written<'a, W: Witness>(view: &'a View<'a>, path: &'a [u8], w: &mut W) -> Verdict {
    truncate::written(view, path, w)
}

/// Decides one act of the actor behind `view`.
///
/// With [`Unwatched`](crate::witness::Unwatched) nothing is allocated as long as every fact is known.
///
/// # Errors
/// The errno the kernel would give.
pub fn decide<'a, W: Witness>(view: &'a View<'a>, verb: &'a Verb, path: &'a [u8], w: &mut W) -> Verdict {
    let mut verdict = decide_modelled(view, verb, path, w);
    if let Some(profile) = view.profile {
        verdict = profiled::weighed((view, profile), verdict, &Wanted::of(verb, path), w);
    }
    if view.unmodelled.is_empty() {
        return verdict;
    }
    unmodelled::weighed(view, verdict, w, |view, w| decide_modelled(view, verb, path, w))
}

/// The same by what the rules follow.
fn decide_modelled<'a, W: Witness>(view: &'a View<'a>, verb: &'a Verb, path: &'a [u8], w: &mut W) -> Verdict {
    let group = |gid: u32| Owner { uid: None, gid: Some(gid) };
    match verb {
        Verb::Inspects => look::inspect(view, path, Follow::Links, w),
        Verb::InspectsLink => look::inspect(view, path, Follow::AllButLast, w),
        Verb::Lists => look::list(view, path, w),
        Verb::Enters => look::enter(view, path, w),
        Verb::MayRead => may::may(view, Access::READ, path, w),
        Verb::MayWrite => may::may(view, Access::WRITE, path, w),
        Verb::MayRun => may::may(view, Access::EXECUTE, path, w),
        Verb::Reads => open::open(view, How::READ, path, w),
        Verb::Writes => open::open(view, How::WRITE, path, w),
        Verb::Appends => open::open(view, How::APPEND, path, w),
        Verb::Truncates => open::open(view, How::TRUNCATE, path, w),
        Verb::Updates => open::open(view, How::UPDATE, path, w),
        Verb::Overwrites => open::open(view, How::OVERWRITE, path, w),
        Verb::Extends => open::open(view, How::EXTEND, path, w),
        Verb::Creates(mode) => open::open(view, How::create(*mode), path, w),
        Verb::Shortens => truncate::shorten(view, path, w),
        Verb::MakesDirectory(mode) => create::make_directory(view, *mode, path, w),
        Verb::MakesFifo(mode) => create::make_node(view, None, *mode, path, w),
        Verb::MakesNode(node, mode) => create::make_node(view, Some(*node), *mode, path, w),
        Verb::Points(target) => create::make_link(view, target, path, w),
        Verb::Links(new) => link::link(view, (path, Follow::AllButLast), new, w),
        Verb::LinksTarget(new) => link::link(view, (path, Follow::Links), new, w),
        Verb::Renames(new) => rename::rename(view, Rename::Over, path, new, w),
        Verb::RenamesNew(new) => rename::rename(view, Rename::New, path, new, w),
        Verb::Exchanges(new) => rename::rename(view, Rename::Exchange, path, new, w),
        Verb::Deletes => remove::remove(view, remove::Removal::File, path, w),
        Verb::RemovesDirectory => remove::remove(view, remove::Removal::Directory, path, w),
        Verb::Runs => execute::run(view, path, w),
        Verb::SetsMode(change) => attributes::set_mode(view, change, path, w),
        Verb::SetsOwner(owner) => owner::set_owner(view, *owner, path, Follow::Links, w),
        Verb::SetsGroup(gid) => owner::set_owner(view, group(*gid), path, Follow::Links, w),
        Verb::SetsLinkOwner(owner) => owner::set_owner(view, *owner, path, Follow::AllButLast, w),
        Verb::SetsLinkGroup(gid) => owner::set_owner(view, group(*gid), path, Follow::AllButLast, w),
        Verb::SetsAcl(text) => acl::set(view, text, path, w),
        Verb::SetsDefaultAcl(acl) => acl::set_default(view, acl, path, w),
        Verb::RemovesAcl => acl::remove(view, false, path, w),
        Verb::RemovesDefaultAcl => acl::remove(view, true, path, w),
        Verb::Stamps => attributes::stamp(view, path, w),
        Verb::Backdates => attributes::backdate(view, path, w),
        Verb::Tags(name) => tag::tag(view, name, path, w),
        Verb::ReadsTag(name) => tag::read(view, name, path, w),
    }
}
