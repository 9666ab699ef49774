//! Mistakes in what was read, on standard error.

use std::io::Write;

use mivask_read::slip::{Severity, Slips};

use crate::end::Failure;

/// Prints every slip.
pub(crate) fn report(slips: &Slips, err: &mut dyn Write) -> Result<(), Failure> {
    slips.iter().try_for_each(|slip| mivask_show::slips::slip(err, slip)).map_err(Failure::Output)
}

/// Ends where an error is among the slips.
pub(crate) fn refuse_errors(slips: &Slips) -> Result<(), Failure> {
    match slips.iter().filter(|slip| slip.severity == Severity::Error).count() {
        0 => Ok(()),
        errors => Err(Failure::Mistakes { errors }),
    }
}
