//! Between the program and whoever reads it: a pager, colour, what is said besides, and a log.

mod log;
mod pager;
mod quiet;

use std::io::{self, IsTerminal, Write};
use std::sync::OnceLock;

use anstream::{AutoStream, ColorChoice, StripStream};

pub(crate) use self::log::begin as begin_log;
use pager::Pager;
pub(crate) use quiet::Quiet;

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

/// Where the answer goes: through a pager where it is long and a terminal reads it, and without colour where none is wanted.
pub(crate) fn answers(color: Color, paging: Paging) -> Box<dyn Write> {
    let stdout = io::stdout();
    let asked = color.choice();
    let colour = if asked == ColorChoice::Auto { AutoStream::choice(&stdout) } else { asked };
    let out: Box<dyn Write> = if paging == Paging::Auto && stdout.is_terminal() {
        Box::new(Pager::new())
    } else {
        Box::new(io::BufWriter::new(stdout))
    };
    if colour == ColorChoice::Never { Box::new(Stripped(StripStream::new(out))) } else { out }
}

/// Text without colour codes.
struct Stripped(StripStream<Box<dyn Write>>);

impl Write for Stripped {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}
