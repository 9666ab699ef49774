//! How an act ends, check by check in the kernel's order.

mod create;
mod execute;
mod look;
mod open;
mod remove;
mod writable;

use crate::act::Verb;
use crate::imprint::NewKind;
use crate::mode::Mode;
use crate::outcome::Verdict;
use crate::view::View;
use crate::witness::Witness;

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
    create::new_entry(view, kind, mode, path, w)
}

/// Decides one act of the actor behind `view`.
///
/// With [`Unwatched`](crate::witness::Unwatched) nothing is allocated as long as every fact is known.
///
/// # Errors
/// The errno the kernel would give.
pub fn decide<'a, W: Witness>(view: &'a View<'a>, verb: Verb, path: &'a [u8], w: &mut W) -> Verdict {
    match verb {
        Verb::Inspects | Verb::InspectsLink => look::inspect(view, verb, path, w),
        Verb::Lists => look::list(view, path, w),
        Verb::Enters => look::enter(view, path, w),
        Verb::Reads
        | Verb::Writes
        | Verb::Appends
        | Verb::Truncates
        | Verb::Updates
        | Verb::Overwrites
        | Verb::Extends
        | Verb::Creates(_) => open::open(view, open::How::of(verb), path, w),
        Verb::MakesDirectory(mode) => create::make_directory(view, mode, path, w),
        Verb::Deletes => remove::remove(view, remove::Removal::File, path, w),
        Verb::RemovesDirectory => remove::remove(view, remove::Removal::Directory, path, w),
        Verb::Runs => execute::run(view, path, w),
    }
}
