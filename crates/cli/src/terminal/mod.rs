//! Between the program and whoever reads it: a pager, colour, what is said besides, and a log.

mod log;
mod pager;
mod quiet;
mod working;

use std::io::{self, IsTerminal, Write};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering};

use anstream::{AutoStream, ColorChoice};
use mivask_core::names::AccountNames;
use mivask_show::guarded::{Colour, Guarded};

pub(crate) use self::log::begin as begin_log;
use pager::Pager;
pub(crate) use quiet::Quiet;
pub(crate) use working::working;

use crate::options::{Color, Paging};

/// Whether nothing is said besides the answer and errors.
static QUIET: OnceLock<bool> = OnceLock::new();

/// Remembers for the whole run whether warnings, notes and progress are left out.
pub(crate) fn keep_quiet(quiet: bool) {
    // Set once, before anything runs.
    let _ = QUIET.set(quiet);
}

/// Whether warnings, notes and progress are left out.
pub(crate) fn is_quiet() -> bool {
    QUIET.get().copied().unwrap_or_default()
}

/// Whether assumptions are listed that take more lines than the answer.
static ALL_ASSUMPTIONS: OnceLock<bool> = OnceLock::new();

/// Remembers for the whole run whether every assumption is listed.
pub(crate) fn list_all_assumptions(all: bool) {
    // Set once, before anything runs.
    let _ = ALL_ASSUMPTIONS.set(all);
}

/// Whether every assumption is listed.
pub(crate) fn lists_all_assumptions() -> bool {
    ALL_ASSUMPTIONS.get().copied().unwrap_or_default()
}

/// Whether answers leave nothing out for length.
static ALL: AtomicBool = AtomicBool::new(false);

/// Remembers whether answers leave nothing out for length: for the whole run, or for one command of a demo.
pub(crate) fn list_all(all: bool) {
    ALL.store(all, Ordering::Relaxed);
}

/// Whether answers leave nothing out for length.
pub(crate) fn lists_all() -> bool {
    ALL.load(Ordering::Relaxed)
}

/// Whether names stand in place of ids.
static BY_NAME: OnceLock<bool> = OnceLock::new();

/// The names of what is asked about, once it is read.
static NAMES: OnceLock<AccountNames> = OnceLock::new();

/// Remembers for the whole run whether names stand in place of ids.
pub(crate) fn call_by_name(wanted: bool) {
    // Set once, before anything runs.
    let _ = BY_NAME.set(wanted);
}

/// Remembers the names of what is asked about, where they are wanted; of two scenes, those of the first.
pub(crate) fn keep_names(names: impl FnOnce() -> AccountNames) {
    if by_name() && NAMES.get().is_none() {
        let _ = NAMES.set(names());
    }
}

/// Whether names stand in place of ids.
pub(crate) fn by_name() -> bool {
    BY_NAME.get().copied().unwrap_or_default()
}

/// The names that were kept.
pub(crate) fn names() -> Option<&'static AccountNames> {
    NAMES.get()
}

/// Where the answer goes: through a pager where it is long and a terminal reads it, and without colour where none is wanted.
pub(crate) fn answers(color: Color, paging: Paging) -> Guarded<Box<dyn Write>> {
    let stdout = stdout();
    let colour = colour(color, AutoStream::choice(&stdout));
    let out: Box<dyn Write> = if paging == Paging::Auto && stdout.is_terminal() {
        Box::new(Pager::new())
    } else {
        Box::new(io::BufWriter::new(stdout))
    };
    Guarded::new(out, colour)
}

/// Where everything goes that is said besides the answer. Standard error is not locked: whoever works meanwhile logs to it.
pub(crate) fn messages(color: Color, quiet: bool) -> Box<dyn Write> {
    let err = stderr();
    let guarded = Guarded::new(io::LineWriter::new(err), colour(color, AutoStream::choice(&stderr())));
    if quiet { Box::new(Quiet::new(guarded)) } else { Box::new(guarded) }
}

const fn colour(asked: Color, seen: ColorChoice) -> Colour {
    match (asked, seen) {
        (Color::Never, _) | (Color::Auto, ColorChoice::Never) => Colour::Stripped,
        (Color::Always | Color::Auto, _) => Colour::Kept,
    }
}

/// Says something besides the answer, from where no one has the writer for it.
pub(crate) fn note(text: &str) {
    // Where standard error is gone there is no one to tell.
    let _ = writeln!(messages(Color::Auto, is_quiet()), "note: {}", mivask_show::safe(text));
}

/// Standard output, unguarded.
#[expect(
    clippy::disallowed_methods,
    reason = "the one place that hands it to those who guard it, or write no text"
)]
pub(crate) fn stdout() -> io::Stdout {
    io::stdout()
}

#[expect(clippy::disallowed_methods, reason = "the one place that guards it")]
fn stderr() -> io::Stderr {
    io::stderr()
}
