//! What is at the path of an output.

use std::ffi::OsString;
use std::fs::{self, File, Metadata, OpenOptions};
use std::io::{self, ErrorKind};
use std::os::fd::AsRawFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use crate::end::{CommandError, Failure};

/// Where an output goes.
pub(super) enum Target {
    /// To a device or a pipe.
    Stream(File),
    /// To a file.
    Place(Box<Place>),
}

/// A file's place, links on the way followed.
pub(super) struct Place {
    /// The folder it is in.
    pub folder: PathBuf,
    /// Its name there.
    pub name: OsString,
    /// The file that is there.
    pub there: Option<There>,
    /// Whether an empty file was made for a link that led nowhere, which goes again where nothing is written.
    made: bool,
}

/// A file that is there.
pub(super) struct There {
    /// Open for writing, as the kernel lets the caller open it.
    pub file: File,
    /// What is known of it.
    pub facts: Metadata,
}

impl Target {
    /// Looks at `path` by opening it for writing: the kernel then follows links as it does for the caller.
    pub(super) fn find(path: &Path) -> io::Result<Self> {
        match OpenOptions::new().write(true).open(path) {
            Ok(file) => Self::opened(path, file, false),
            Err(error) if error.kind() == ErrorKind::NotFound => {
                if !fs::symlink_metadata(path).is_ok_and(|facts| facts.is_symlink()) {
                    return Place::fresh(path).map(Box::new).map(Self::Place);
                }
                let file = OpenOptions::new().write(true).create(true).truncate(false).open(path)?;
                Self::opened(path, file, true)
            }
            Err(error) => Err(error),
        }
    }

    fn opened(path: &Path, file: File, made: bool) -> io::Result<Self> {
        let facts = file.metadata()?;
        if !facts.is_file() {
            return Ok(Self::Stream(file));
        }
        let is_it = |path: &PathBuf| {
            fs::symlink_metadata(path).is_ok_and(|one| (one.dev(), one.ino()) == (facts.dev(), facts.ino()))
        };
        let by_descriptor = fs::read_link(format!("/proc/self/fd/{}", file.as_raw_fd())).ok().filter(is_it);
        let whole = by_descriptor.or_else(|| fs::canonicalize(path).ok().filter(is_it));
        let parts = whole.as_deref().and_then(|whole| Some((whole.parent()?, whole.file_name()?)));
        let Some((folder, name)) = parts else {
            return Err(io::Error::new(ErrorKind::NotFound, "it moved away while it was opened"));
        };
        let (folder, name) = (folder.to_path_buf(), name.to_os_string());
        let place = Place { folder, name, there: Some(There { file, facts }), made };
        Ok(Self::Place(Box::new(place)))
    }
}

impl Place {
    /// A place where nothing is.
    fn fresh(path: &Path) -> io::Result<Self> {
        let name = path.file_name().filter(|_| !path.as_os_str().as_bytes().ends_with(b"/"));
        let name = name.ok_or(ErrorKind::IsADirectory)?.to_os_string();
        let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
        let folder = folder.map_or_else(|| PathBuf::from("."), Path::to_path_buf);
        // Whoever looks for a missing folder is known of the file that was named, not of one beside it.
        fs::metadata(&folder)?;
        Ok(Self { folder, name, there: None, made: false })
    }

    pub(super) fn path(&self) -> PathBuf {
        self.folder.join(&self.name)
    }

    /// What is at the place now is what was to be written.
    pub(super) const fn done(&mut self) {
        self.made = false;
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        if self.made {
            // Nothing was written: the empty file that the link led to was not there before.
            let _ = fs::remove_file(self.path());
        }
    }
}

/// Two outputs that are one file.
#[derive(Debug, thiserror::Error)]
#[error("{} and {} are one file: name another for one of them", .0.display(), .1.display())]
struct Twice(PathBuf, PathBuf);

impl CommandError for Twice {}

/// Sees to it that no two of `paths` are one file.
pub(crate) fn distinct<'a>(paths: impl Iterator<Item = &'a Path>) -> Result<(), Failure> {
    let mut seen: Vec<(PathBuf, &Path)> = Vec::new();
    for path in paths {
        let Some(whole) = identity(path) else { continue };
        if let Some((_, first)) = seen.iter().find(|(known, _)| *known == whole) {
            return Err(Twice(first.to_path_buf(), path.to_path_buf()).into());
        }
        seen.push((whole, path));
    }
    Ok(())
}

/// What tells a file from others: its number, or its name in its folder where it is still to be made; `None` for devices and pipes,
/// which many may write to.
fn identity(path: &Path) -> Option<PathBuf> {
    match fs::metadata(path) {
        Ok(facts) => facts.is_file().then(|| PathBuf::from(format!("{}:{}", facts.dev(), facts.ino()))),
        Err(_) => {
            let target = fs::read_link(path).ok();
            let path = match (&target, path.parent()) {
                (Some(target), Some(folder)) => folder.join(target),
                _ => path.to_path_buf(),
            };
            let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
            let folder = fs::canonicalize(folder.unwrap_or(Path::new("."))).ok()?;
            Some(folder.join(path.file_name()?))
        }
    }
}
