//! Mistakes in what was read, on standard error.

use std::io::Write;

use mivask_read::diagnostic::{Diagnostics, Severity};

use crate::end::Failure;

/// Prints every diagnostic.
pub(crate) fn report(diagnostics: &Diagnostics, err: &mut dyn Write) -> Result<(), Failure> {
    diagnostics
        .iter()
        .try_for_each(|diagnostic| mivask_show::diagnostics::diagnostic(err, diagnostic))
        .map_err(Failure::Output)
}

/// Ends where an error is among the diagnostics.
pub(crate) fn refuse_errors(diagnostics: &Diagnostics) -> Result<(), Failure> {
    match diagnostics.iter().filter(|diagnostic| diagnostic.severity == Severity::Error).count() {
        0 => Ok(()),
        errors => Err(Failure::Mistakes { errors }),
    }
}

/// Prints every diagnostic, and ends where an error is among them.
pub(crate) fn settle(diagnostics: &Diagnostics, err: &mut dyn Write) -> Result<(), Failure> {
    report(diagnostics, err)?;
    refuse_errors(diagnostics)
}
