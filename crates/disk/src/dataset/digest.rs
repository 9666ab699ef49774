//! Digests of files, so that nothing damaged is taken apart: the decoders of a format of columns trust what they read.
//!
//! Small tables are named by theirs. A file of rows keeps its name, so it carries its own: of the whole file as it would be with zeros
//! in the place of the digits, which are written last.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::FileExt;

use sha2::{Digest, Sha256};

/// What a file of rows calls its digest.
pub(super) const KEY: &str = "mivask.digest";

/// What stands before the digits.
const ALGORITHM: &str = "sha256:";

/// How many digits there are.
const DIGITS: usize = 32;

/// What stands there until the digest is known.
pub(super) fn placeholder() -> String {
    format!("{ALGORITHM}{}", "0".repeat(DIGITS))
}

/// The first 16 bytes of a digest in hexadecimal digits, as the names of files have it.
fn shown(digest: Sha256) -> String {
    digest.finalize().iter().take(DIGITS / 2).map(|byte| format!("{byte:02x}")).collect()
}

/// The digest of these bytes.
pub(super) fn of(bytes: &[u8]) -> String {
    shown(Sha256::new_with_prefix(bytes))
}

/// The digest of what is read.
pub(super) fn of_all(mut from: impl Read) -> io::Result<String> {
    let mut digest = Sha256::new();
    let mut buffer = vec![0; 1 << 16];
    loop {
        match from.read(&mut buffer)? {
            0 => return Ok(shown(digest)),
            count => digest.update(&buffer[..count]),
        }
    }
}

/// Bytes at the end of a file in which its digits are, at most: the description of a billion rows is a megabyte.
const MOST_AT_END: u64 = 1 << 24;

/// Where the digits are in a file; `None` where it has none.
fn digits(file: &File) -> io::Result<Option<u64>> {
    let length = file.metadata()?.len();
    let first = length.saturating_sub(MOST_AT_END);
    let mut end = vec![0; usize::try_from(length - first).unwrap_or(0)];
    file.read_exact_at(&mut end, first)?;
    let found = end.windows(KEY.len()).rposition(|bytes| bytes == KEY.as_bytes());
    // The value follows its name, with its length between them.
    let value = found.and_then(|at| {
        let behind = at + KEY.len();
        let at = end[behind..].windows(ALGORITHM.len()).position(|bytes| bytes == ALGORITHM.as_bytes())?;
        Some(behind + at + ALGORITHM.len()).filter(|at| at + DIGITS <= end.len())
    });
    Ok(value.map(|at| first + at as u64))
}

/// Writes the digits into a file that has a place for them.
pub(super) fn seal(file: &File, digest: &str) -> io::Result<()> {
    let at = digits(file)?.ok_or_else(|| io::Error::other("it has no place for its digest"))?;
    file.write_all_at(digest.as_bytes(), at)
}

/// Why a file of rows is not looked at.
#[derive(Debug, thiserror::Error)]
pub(super) enum Unsealed {
    #[error("it is no file of rows of a dataset")]
    Other,
    #[error("it is damaged: it is not what was written")]
    Damaged,
    #[error("cannot be read: {0}")]
    Io(#[from] io::Error),
}

/// That a file of rows is what was written.
pub(super) fn check(file: &mut File) -> Result<(), Unsealed> {
    let at = digits(file)?.ok_or(Unsealed::Other)?;
    let mut said = [0; DIGITS];
    file.read_exact_at(&mut said, at)?;
    file.seek(SeekFrom::Start(0))?;
    let zeros = placeholder();
    let zeros = &zeros.as_bytes()[ALGORITHM.len()..];
    let mut rest = file.try_clone()?;
    let before = (&mut *file).take(at).chain(zeros);
    let digest = of_all(before.chain(Behind { file: &mut rest, at: Some(at + DIGITS as u64) }))?;
    if digest.as_bytes() == said { Ok(()) } else { Err(Unsealed::Damaged) }
}

/// A file from a place on, which it goes to when it is first read.
struct Behind<'a> {
    file: &'a mut File,
    at: Option<u64>,
}

impl Read for Behind<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if let Some(at) = self.at.take() {
            self.file.seek(SeekFrom::Start(at))?;
        }
        self.file.read(buffer)
    }
}

/// Digests what is written through it.
pub(super) struct Digesting<W> {
    inner: W,
    digest: Sha256,
}

impl<W: Write> Digesting<W> {
    pub(super) fn new(inner: W) -> Self {
        Self { inner, digest: Sha256::new() }
    }

    /// The digest of all that was written.
    pub(super) fn finish(mut self) -> io::Result<String> {
        self.inner.flush()?;
        Ok(shown(self.digest))
    }
}

impl<W: Write> Write for Digesting<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let count = self.inner.write(bytes)?;
        self.digest.update(&bytes[..count]);
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}
