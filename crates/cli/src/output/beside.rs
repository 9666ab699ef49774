//! A new file beside the one whose place it takes: without a name, where the file system can have such files.

use std::fs::{self, File, OpenOptions};
use std::io::{self, ErrorKind};
use std::os::fd::AsRawFd;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use mivask_disk::dataset::Unnamed;
use rustix::fs::{AtFlags, CWD, Mode, OFlags, linkat};
use rustix::io::Errno;

use super::names::{Fleeting, claim, sweep};
use super::place::Place;

/// Names that are tried before the folder counts as one in which nothing can be made.
const MOST_NAMES: usize = 16;

/// The file while it is written.
pub(super) struct Beside {
    file: File,
    folder: PathBuf,
    /// Its name, where it has one.
    name: Option<Fleeting>,
}

impl Beside {
    /// A new file in `folder`, with the mode that a redirect of the shell gives it.
    pub(super) fn begin(folder: &Path) -> io::Result<Self> {
        sweep(folder);
        let (file, name) = match nameless(folder) {
            Ok(file) => (file, None),
            // Of the file systems that cannot some say so, some take the flags for others (open(2), O_TMPFILE).
            Err(Errno::OPNOTSUPP | Errno::ISDIR | Errno::INVAL | Errno::NOENT | Errno::NOSYS) => {
                let (file, name) = named(folder)?;
                (file, Some(name))
            }
            Err(error) => return Err(error.into()),
        };
        claim(&file);
        Ok(Self { file, folder: folder.to_path_buf(), name })
    }

    /// Where to write.
    pub(super) const fn file(&self) -> &File {
        &self.file
    }

    /// Gives it this name once it is on the disk, in the place of what has that.
    fn replace(self, path: &Path) -> io::Result<()> {
        self.file.sync_all()?;
        let name = match self.name {
            Some(name) => name,
            None => linked(&self.file, &self.folder)?,
        };
        fs::rename(name.path(), path)?;
        name.forget();
        on_disk(path.parent().unwrap_or(&self.folder))
    }

    /// Puts it in its place once it is on the disk.
    pub(super) fn put(self, place: &Place) -> io::Result<()> {
        self.file.sync_all()?;
        let path = place.path();
        if self.name.is_none() && place.there.is_none() {
            match link(&self.file, &path) {
                Ok(()) => return on_disk(&self.folder),
                Err(Errno::EXIST) => {}
                Err(error) => return Err(error.into()),
            }
        }
        self.replace(&path)
    }
}

impl Unnamed for Beside {
    fn file(&self) -> &File {
        &self.file
    }

    fn name(self: Box<Self>, path: &Path) -> io::Result<()> {
        self.replace(path)
    }
}

fn nameless(folder: &Path) -> Result<File, Errno> {
    let flags = OFlags::TMPFILE | OFlags::RDWR | OFlags::CLOEXEC;
    rustix::fs::open(folder, flags, Mode::from_raw_mode(0o666)).map(File::from)
}

fn named(folder: &Path) -> io::Result<(File, Fleeting)> {
    for _ in 0..MOST_NAMES {
        let name = Fleeting::new(folder);
        match OpenOptions::new().read(true).write(true).create_new(true).mode(0o666).open(name.path()) {
            Ok(file) => return Ok((file, name)),
            Err(error) if error.kind() == ErrorKind::AlreadyExists => name.forget(),
            Err(error) => return Err(error),
        }
    }
    Err(ErrorKind::AlreadyExists.into())
}

/// Gives a file without a name one in `folder`, which it keeps until it is renamed.
fn linked(file: &File, folder: &Path) -> io::Result<Fleeting> {
    for _ in 0..MOST_NAMES {
        let name = Fleeting::new(folder);
        match link(file, name.path()) {
            Ok(()) => return Ok(name),
            Err(Errno::EXIST) => name.forget(),
            Err(error) => return Err(error.into()),
        }
    }
    Err(ErrorKind::AlreadyExists.into())
}

fn link(file: &File, path: &Path) -> Result<(), Errno> {
    let own = format!("/proc/self/fd/{}", file.as_raw_fd());
    linkat(CWD, own.as_str(), CWD, path, AtFlags::SYMLINK_FOLLOW)
}

/// The folder with its new entry is on the disk, too, where the file system can say so.
fn on_disk(folder: &Path) -> io::Result<()> {
    match File::open(folder).and_then(|folder| folder.sync_all()) {
        Err(error) if matches!(error.kind(), ErrorKind::PermissionDenied | ErrorKind::InvalidInput) => Ok(()),
        synced => synced,
    }
}
