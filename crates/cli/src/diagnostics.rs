//! Mistakes in what was read, on standard error.

use std::io::Write;

use mivask_read::diagnostic::{Diagnostics, Severity};

use crate::end::Failure;

/// Prints every diagnostic.
pub(crate) fn report(diagnostics: &Diagnostics, err: &mut dyn Write) -> Result<(), Failure> {
    diagnostics.iter().try_for_each(|diagnostic| mivask_show::diagnostics::diagnostic(err, diagnostic))?;
    for (count, last) in diagnostics.left_out() {
        mivask_show::diagnostics::left_out(err, count, last)?;
    }
    Ok(())
}

/// Ends where an error is among the diagnostics.
pub(crate) fn refuse_errors(diagnostics: &Diagnostics) -> Result<(), Failure> {
    match diagnostics.count(Severity::Error) {
        0 => Ok(()),
        errors => Err(Failure::Mistakes { errors }),
    }
}

/// Prints every diagnostic, and ends where an error is among them.
pub(crate) fn settle(diagnostics: &Diagnostics, err: &mut dyn Write) -> Result<(), Failure> {
    report(diagnostics, err)?;
    refuse_errors(diagnostics)
}
