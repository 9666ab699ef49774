//! Where descriptions come from: files, folders, standard input, and what can go wrong with them.

use std::fs::File;
use std::io::{self, BufRead, Cursor};
use std::os::unix::fs::{FileExt, FileTypeExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::time::Instant;

use mivask_core::mode::{FileKind, Mode};
use mivask_disk::error::DiskError;
use mivask_disk::gathered::Gathered;
use mivask_disk::image::Choice;
use mivask_disk::live::Options;

/// What is at a path.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Found {
    /// What it is.
    pub kind: FileKind,
    /// Permission bits, where they are known.
    pub mode: Option<Mode>,
    /// A link's target.
    pub target: Vec<u8>,
}

/// Gives the bytes of files; the tests and other programs bring their own.
pub trait FileReader {
    /// The whole file.
    ///
    /// # Errors
    /// Whatever the operating system says.
    fn read(&self, path: &Path) -> io::Result<Vec<u8>>;

    /// The paths directly in a folder, or `None` where `path` is not a folder.
    ///
    /// # Errors
    /// Whatever the operating system says.
    fn folder(&self, path: &Path) -> io::Result<Option<Vec<PathBuf>>>;

    /// Whether a source is given for a volume of this name besides the input, so that a scene need not declare it.
    fn gives(&self, _volume: &str) -> bool {
        false
    }

    /// What is at `path`, links not followed.
    ///
    /// # Errors
    /// Whatever the operating system says.
    fn look(&self, path: &Path) -> io::Result<Found> {
        let kind = match self.folder(path)? {
            Some(_) => FileKind::Directory,
            None => self.read(path).map(|_| FileKind::File)?,
        };
        Ok(Found { kind, mode: None, target: Vec::new() })
    }

    /// The on-disk facts of a source; `choice` says which image of several.
    ///
    /// # Errors
    /// It cannot be read, or has no disk.
    fn gather(&self, path: &Path, _: &Choice) -> Result<Gathered, DiskError> {
        Err(DiskError::whole(&path.display().to_string(), "there is no disk here"))
    }

    /// The first `most` bytes of a file, which tell what execve finds in it.
    ///
    /// # Errors
    /// Whatever the operating system says.
    fn head(&self, path: &Path, most: usize) -> io::Result<Vec<u8>> {
        let mut bytes = self.read(path)?;
        bytes.truncate(most);
        Ok(bytes)
    }

    /// All of standard input.
    ///
    /// # Errors
    /// Whatever the operating system says.
    fn standard_input(&self) -> io::Result<Vec<u8>>;

    /// The file line by line.
    ///
    /// # Errors
    /// Whatever the operating system says.
    fn open(&self, path: &Path) -> io::Result<Box<dyn BufRead>> {
        Ok(Box::new(Cursor::new(self.read(path)?)))
    }

    /// Whether it can be read from its beginning again, as a pipe cannot.
    fn reads_twice(&self, _: &Origin) -> bool {
        true
    }

    /// The value of an environment variable.
    fn variable(&self, _: &str) -> Option<String> {
        None
    }

    /// A path as one that does not depend on the working directory.
    fn absolute(&self, path: &Path) -> PathBuf {
        path.to_path_buf()
    }

    /// Standard input line by line.
    ///
    /// # Errors
    /// Whatever the operating system says.
    fn open_standard_input(&self) -> io::Result<Box<dyn BufRead>> {
        Ok(Box::new(Cursor::new(self.standard_input()?)))
    }
}

/// Reads from the file system.
#[derive(Clone, Copy, Debug, Default)]
pub struct Disk;

impl FileReader for Disk {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        let bytes = std::fs::read(path)?;
        log::debug!("read {}: {} bytes", path.display(), bytes.len());
        Ok(bytes)
    }

    fn folder(&self, path: &Path) -> io::Result<Option<Vec<PathBuf>>> {
        if !path.is_dir() {
            return Ok(None);
        }
        let entries: io::Result<Vec<PathBuf>> =
            std::fs::read_dir(path)?.map(|entry| Ok(entry?.path())).collect();
        Ok(Some(entries?))
    }

    fn gather(&self, path: &Path, choice: &Choice) -> Result<Gathered, DiskError> {
        let options = Options { choice: choice.clone(), ..Options::default() };
        let begun = Instant::now();
        let gathered = mivask_disk::source::gather(path, &options, &|_| ())?;
        let inodes = gathered.tree.len();
        let time = begun.elapsed().as_millis();
        log::info!("gathered {}: {inodes} inodes in {time} ms", path.display());
        Ok(gathered)
    }

    fn look(&self, path: &Path) -> io::Result<Found> {
        let facts = std::fs::symlink_metadata(path)?;
        let kind = match facts.file_type() {
            kind if kind.is_dir() => FileKind::Directory,
            kind if kind.is_symlink() => FileKind::Link,
            kind if kind.is_fifo() => FileKind::Fifo,
            kind if kind.is_socket() => FileKind::Socket,
            kind if kind.is_char_device() => FileKind::CharDevice,
            kind if kind.is_block_device() => FileKind::BlockDevice,
            _ => FileKind::File,
        };
        let target = match kind {
            FileKind::Link => std::fs::read_link(path)?.into_os_string().into_encoded_bytes(),
            FileKind::File
            | FileKind::Directory
            | FileKind::Fifo
            | FileKind::Socket
            | FileKind::CharDevice
            | FileKind::BlockDevice => Vec::new(),
        };
        let bits = u16::try_from(facts.permissions().mode() & 0o7777).unwrap_or_default();
        Ok(Found { kind, mode: Some(Mode::new(bits)), target })
    }

    fn head(&self, path: &Path, most: usize) -> io::Result<Vec<u8>> {
        let mut bytes = Vec::with_capacity(most);
        io::Read::read_to_end(&mut io::Read::take(File::open(path)?, most as u64), &mut bytes)?;
        Ok(bytes)
    }

    fn standard_input(&self) -> io::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        io::Read::read_to_end(&mut io::stdin().lock(), &mut bytes)?;
        Ok(bytes)
    }

    fn open(&self, path: &Path) -> io::Result<Box<dyn BufRead>> {
        log::debug!("reading {}", path.display());
        Ok(Box::new(io::BufReader::with_capacity(1 << 16, File::open(path)?)))
    }

    fn reads_twice(&self, origin: &Origin) -> bool {
        match origin {
            // It is kept in a file of its own while it is read.
            Origin::Standard => true,
            Origin::File(path) => path.is_file(),
        }
    }

    fn variable(&self, name: &str) -> Option<String> {
        std::env::var(name).ok()
    }

    fn absolute(&self, path: &Path) -> PathBuf {
        // An empty path is the working directory, as everywhere else.
        let path = if path.as_os_str().is_empty() { Path::new(".") } else { path };
        std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf())
    }

    fn open_standard_input(&self) -> io::Result<Box<dyn BufRead>> {
        Ok(Box::new(io::BufReader::with_capacity(1 << 16, Again { file: spooled()?, at: 0 })))
    }
}

/// Standard input in a file without a name, so that it can be read again.
fn spooled() -> io::Result<&'static File> {
    static SPOOLED: OnceLock<File> = OnceLock::new();
    if let Some(file) = SPOOLED.get() {
        return Ok(file);
    }
    let mut file = tempfile::tempfile()?;
    io::copy(&mut io::stdin().lock(), &mut file)?;
    Ok(SPOOLED.get_or_init(|| file))
}

/// Reads a file that others read too, from a place of its own.
struct Again {
    file: &'static File,
    at: u64,
}

impl io::Read for Again {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let got = self.file.read_at(buffer, self.at)?;
        self.at += got as u64;
        Ok(got)
    }
}

/// Where an input comes from.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Origin {
    /// Standard input, written `-`.
    Standard,
    /// A file or folder.
    File(PathBuf),
}

impl Origin {
    /// The origin that an argument names.
    #[must_use]
    pub fn of(argument: &Path) -> Self {
        if argument == Path::new("-") { Self::Standard } else { Self::File(argument.to_path_buf()) }
    }

    /// The name shown to the user.
    #[must_use]
    pub fn name(&self) -> String {
        match self {
            Self::Standard => "standard input".to_owned(),
            Self::File(path) => path.display().to_string(),
        }
    }
}

/// An input that could not even be looked at.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum InputError {
    /// The operating system refuses.
    #[error("{name} cannot be read: {error}")]
    Io {
        /// The file as the user named it.
        name: String,
        /// What the operating system says.
        error: io::Error,
    },
    /// Not text.
    #[error("{name}:{line}:{column}: not UTF-8 text (byte {offset})")]
    Encoding {
        /// The file as the user named it.
        name: String,
        /// Line of the first bad byte, from 1.
        line: usize,
        /// Its column in characters, from 1.
        column: usize,
        /// Offset of the first bad byte, from 0.
        offset: usize,
    },
    /// Text of two bytes a character, as some editors save it.
    #[error("{name}:1:1: text in UTF-16: save it as UTF-8, or convert it with `iconv -f UTF-16 -t UTF-8`")]
    Utf16 {
        /// The file as the user named it.
        name: String,
    },
    /// Larger than any description.
    #[error("{name} has {size} bytes: no description is that large")]
    Size {
        /// The file as the user named it.
        name: String,
        /// Its size in bytes.
        size: usize,
    },
    /// A folder without manifests.
    #[error("the folder {name} holds no .yaml, .yml, .json, .container or .kube file")]
    EmptyFolder {
        /// The folder as the user named it.
        name: String,
    },
}
