//! The files that were read, so that no output takes the place of one.

use std::cell::RefCell;
use std::collections::BTreeSet;
use std::fs::Metadata;
use std::io::{self, BufRead};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use mivask_disk::error::DiskError;
use mivask_disk::gathered::Gathered;
use mivask_disk::image::Choice;
use mivask_read::files::Found;
use mivask_read::input::{Disk, FileReader, Origin};

use crate::options::Facts;
use crate::{containers, images};

/// Device and inode of every file that was read in this run.
static READ: Mutex<BTreeSet<(u64, u64)>> = Mutex::new(BTreeSet::new());

/// Remembers that the file at `path` is read.
pub(crate) fn note(path: &Path) {
    if let Ok(facts) = std::fs::metadata(path)
        && facts.is_file()
    {
        READ.lock().unwrap_or_else(PoisonError::into_inner).insert((facts.dev(), facts.ino()));
    }
}

/// Whether the file of these facts was read.
pub(crate) fn is_read(facts: &Metadata) -> bool {
    READ.lock().unwrap_or_else(PoisonError::into_inner).contains(&(facts.dev(), facts.ino()))
}

/// Reads from the disk and remembers what.
#[derive(Default)]
pub(crate) struct Files {
    paths: RefCell<BTreeSet<PathBuf>>,
    /// Volumes whose files `--disk` gives.
    given: BTreeSet<String>,
}

impl Files {
    /// The same, where `facts` say what is on some volumes.
    pub(crate) fn beside(facts: &Facts) -> Self {
        Self { given: facts.disk.iter().map(|given| given.name.clone()).collect(), ..Self::default() }
    }

    /// The paths that were read or looked for.
    pub(crate) fn paths(self) -> BTreeSet<PathBuf> {
        self.paths.into_inner()
    }

    fn looked_for(&self, path: &Path) {
        self.paths.borrow_mut().insert(path.to_path_buf());
    }

    fn read_whole(&self, path: &Path) {
        self.looked_for(path);
        note(path);
    }
}

impl FileReader for Files {
    fn gives(&self, volume: &str) -> bool {
        self.given.contains(volume)
    }

    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        self.read_whole(path);
        Disk.read(path)
    }

    fn folder(&self, path: &Path) -> io::Result<Option<Vec<PathBuf>>> {
        self.looked_for(path);
        Disk.folder(path)
    }

    fn look(&self, path: &Path) -> io::Result<Found> {
        self.looked_for(path);
        Disk.look(path)
    }

    fn gather(&self, path: &Path, choice: &Choice) -> Result<Gathered, DiskError> {
        if let Some(image) = images::named(path) {
            return images::gather(image, choice);
        }
        self.read_whole(path);
        Disk.gather(path, choice)
    }

    fn head(&self, path: &Path, most: usize) -> io::Result<Vec<u8>> {
        self.read_whole(path);
        Disk.head(path, most)
    }

    fn standard_input(&self) -> io::Result<Vec<u8>> {
        Disk.standard_input()
    }

    fn open(&self, path: &Path) -> io::Result<Box<dyn BufRead>> {
        if let Some(container) = containers::Named::of(path) {
            return Ok(Box::new(io::Cursor::new(container.json()?)));
        }
        self.read_whole(path);
        Disk.open(path)
    }

    fn reads_twice(&self, origin: &Origin) -> bool {
        Disk.reads_twice(origin)
    }

    fn variable(&self, name: &str) -> Option<String> {
        Disk.variable(name)
    }

    fn absolute(&self, path: &Path) -> PathBuf {
        Disk.absolute(path)
    }

    fn open_standard_input(&self) -> io::Result<Box<dyn BufRead>> {
        Disk.open_standard_input()
    }
}
