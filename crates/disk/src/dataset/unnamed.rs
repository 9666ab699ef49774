//! Files that have no name before they are whole: how they are begun is up to the program, which may be stopped at any time.

use std::fs::File;
use std::io;
use std::path::Path;

/// A file that is being written. Dropped before it has its name, nothing is left of it.
pub trait Unnamed: Send {
    /// Where to write, and to read what was written.
    fn file(&self) -> &File;

    /// Gives it its name, in a folder of the same file system, in the place of what has that name.
    ///
    /// # Errors
    /// It cannot be had on the disk, or under that name.
    fn name(self: Box<Self>, path: &Path) -> io::Result<()>;
}

/// Begins one on the file system of a folder.
pub type Begin = fn(&Path) -> io::Result<Box<dyn Unnamed>>;
