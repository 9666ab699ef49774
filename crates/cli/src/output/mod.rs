//! Files the user named for output: written beside, then put in their place at once.

mod beside;
mod kept;
mod names;
mod place;

use std::fs::File;
use std::io::{self, BufWriter, ErrorKind, Seek, Write};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use mivask_disk::dataset::Unnamed;
use mivask_show::guarded::{Colour, Guarded};

use crate::end::{CommandError, Failure};
use crate::{inputs, terminal};
use beside::Beside;
pub(crate) use place::distinct;
use place::{Place, Target, There};

/// Bytes that are gathered before they are written.
const BUFFER: usize = 1 << 18;

/// An output that is an input, too.
#[derive(Debug, thiserror::Error)]
#[error("{} was read: name another file for the output", .0.display())]
struct Overwrites(PathBuf);

impl CommandError for Overwrites {}

/// Whether an output may take the place of a file that was read.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Inputs {
    Spared,
    Meant,
}

/// A file of a dataset on the file system of `folder`, which has no name before it is whole.
pub(crate) fn unnamed(folder: &Path) -> io::Result<Box<dyn Unnamed>> {
    Ok(Box::new(Beside::begin(folder)?))
}

/// Lets `fill` write to standard output, byte for byte: nothing that could be a colour is taken out.
pub(crate) fn raw(fill: impl FnOnce(&mut (dyn Write + Send)) -> Result<(), Failure>) -> Result<(), Failure> {
    let mut out = BufWriter::with_capacity(BUFFER, terminal::stdout());
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
///
/// A file that is there keeps its owner, mode, ACL and attributes. Links are followed as the kernel lets the caller follow them
/// (`fs.protected_symlinks` counts), and one that leads nowhere makes its target. A file that was read is refused.
pub(crate) fn replace(
    path: &Path,
    fill: impl FnOnce(&mut (dyn Write + Send)) -> Result<(), Failure>,
) -> Result<(), Failure> {
    put(path, Inputs::Spared, fill)
}

/// The same for a description that is changed where it is.
pub(crate) fn amend(
    path: &Path,
    fill: impl FnOnce(&mut (dyn Write + Send)) -> Result<(), Failure>,
) -> Result<(), Failure> {
    put(path, Inputs::Meant, fill)
}

fn put(
    path: &Path,
    inputs: Inputs,
    fill: impl FnOnce(&mut (dyn Write + Send)) -> Result<(), Failure>,
) -> Result<(), Failure> {
    let failure = |error| Failure::File { path: path.to_path_buf(), error };
    // What cannot be written is this file.
    let fill = |out: &mut (dyn Write + Send)| match fill(out) {
        Err(Failure::Output(error)) => Err(failure(error)),
        filled => filled,
    };
    let place = match Target::find(path).map_err(failure)? {
        Target::Stream(file) => {
            let mut out = BufWriter::with_capacity(BUFFER, file);
            fill(&mut out)?;
            return out.flush().map_err(failure);
        }
        Target::Place(place) => place,
    };
    if let Some(there) = &place.there
        && inputs == Inputs::Spared
        && inputs::is_read(&there.facts)
    {
        return Err(Overwrites(path.to_path_buf()).into());
    }
    let beside = match (Beside::begin(&place.folder), &place.there) {
        (Ok(beside), _) => beside,
        // Whoever may write the file but make none beside it writes it where it is, once all is there to be written.
        (Err(error), Some(there)) if is_refusal(&error) => {
            let mut whole = Vec::new();
            fill(&mut whole)?;
            return in_place(&there.file, &mut whole.as_slice()).map_err(failure);
        }
        (Err(error), _) => return Err(failure(error)),
    };
    let mut out = BufWriter::with_capacity(BUFFER, beside.file());
    fill(&mut out)?;
    out.flush().map_err(failure)?;
    drop(out);
    settle(beside, *place, path).map_err(failure)
}

/// Puts what was written beside in its place.
fn settle(beside: Beside, mut place: Place, named: &Path) -> io::Result<()> {
    if let Some(there) = &place.there
        && !kept::take_over(beside.file(), there)
    {
        let mut written = beside.file();
        written.rewind()?;
        in_place(&there.file, &mut written)?;
        place.done();
        return Ok(());
    }
    let names = place.there.as_ref().map_or(1, |there: &There| there.facts.nlink());
    beside.put(&place)?;
    place.done();
    if names > 1 {
        let named = named.display();
        let others = if names == 2 {
            "its other name keeps".to_owned()
        } else {
            format!("its {} other names keep", names - 1)
        };
        terminal::note(&format!("{named} is a new file now: {others} what was written before"));
    }
    Ok(())
}

fn in_place(mut file: &File, text: &mut dyn io::Read) -> io::Result<()> {
    file.set_len(0)?;
    io::copy(text, &mut file)?;
    file.sync_all()
}

fn is_refusal(error: &io::Error) -> bool {
    matches!(error.kind(), ErrorKind::PermissionDenied | ErrorKind::ReadOnlyFilesystem)
}
