//! Files the user named for output: written beside, then put in their place at once.

use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};

use mivask_show::guarded::{Colour, Guarded};

use crate::end::Failure;

/// Lets `fill` write to standard output, byte for byte: nothing that could be a colour is taken out.
pub(crate) fn raw(fill: impl FnOnce(&mut (dyn Write + Send)) -> Result<(), Failure>) -> Result<(), Failure> {
    let mut out = BufWriter::with_capacity(1 << 18, crate::terminal::stdout());
    fill(&mut out)?;
    out.flush().map_err(Failure::Output)
}

/// Lets `fill` write text to `out`, in which nothing is left that whoever shows it would obey.
pub(crate) fn guarded(
    out: &mut dyn Write,
    fill: impl FnOnce(&mut dyn Write) -> Result<(), Failure>,
) -> Result<(), Failure> {
    let mut out = Guarded::new(out, Colour::Stripped);
    fill(&mut out)?;
    out.flush().map_err(Failure::Output)
}

/// The same as [`replace`] for text, guarded.
pub(crate) fn text(
    path: &Path,
    fill: impl FnOnce(&mut dyn Write) -> Result<(), Failure>,
) -> Result<(), Failure> {
    replace(path, |out| guarded(out, fill))
}

/// Lets `fill` write a new file, which takes the place of `path` only when it is whole; a device or a pipe is written to.
pub(crate) fn replace(
    path: &Path,
    fill: impl FnOnce(&mut (dyn Write + Send)) -> Result<(), Failure>,
) -> Result<(), Failure> {
    let failure = |error| Failure::File { path: path.to_path_buf(), error };
    // A link stays one: what it points at is replaced. A device or a pipe is written to, never replaced.
    let there = std::fs::canonicalize(path).ok();
    if std::fs::metadata(path).is_ok_and(|facts| !facts.is_file() && !facts.is_dir()) {
        let file = std::fs::OpenOptions::new().write(true).open(path).map_err(failure)?;
        let mut out = BufWriter::with_capacity(1 << 18, file);
        fill(&mut out)?;
        return out.flush().map_err(failure);
    }
    let path = there.as_deref().unwrap_or(path);
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
    let folder = folder.map_or_else(|| PathBuf::from("."), Path::to_path_buf);
    // Whoever looks for a missing folder is known of the file that was named, not of one beside it.
    std::fs::metadata(&folder).map_err(failure)?;
    let mut options = tempfile::Builder::new();
    // As a redirect of the shell would make it, which the umask then narrows.
    options.permissions(std::os::unix::fs::PermissionsExt::from_mode(0o666));
    let file = options.prefix(".mivask-").tempfile_in(&folder).map_err(failure)?;
    let mut out = BufWriter::with_capacity(1 << 18, file);
    fill(&mut out)?;
    let file = out.into_inner().map_err(|error| failure(error.into_error()))?;
    file.persist(path).map_err(|error| failure(error.error))?;
    Ok(())
}
