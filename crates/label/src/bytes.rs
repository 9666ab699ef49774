//! Little-endian bytes of a policy, read from front to back; nothing is believed before it was checked.

use crate::Bitmap;

/// What is wrong with a policy, and where.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{problem} (at byte {offset})")]
pub struct PolicyError {
    /// Where in the file, in bytes.
    pub offset: usize,
    /// What is wrong there.
    pub problem: Problem,
}

/// What can be wrong with a policy.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Problem {
    /// The first bytes are not those of a kernel policy.
    #[error("this is no binary policy of a kernel")]
    NotAPolicy,
    /// A version that this crate does not read.
    #[error("a policy of version {0}: versions 30 to 33 are read")]
    Version(u32),
    /// The file ends amid something.
    #[error("it ends before {0} is complete")]
    Short(&'static str),
    /// A number or name that cannot be there.
    #[error("{0}")]
    Bad(&'static str),
    /// Bytes are left when all is read.
    #[error("{0} bytes are left after the policy's end")]
    Left(usize),
}

/// The rest of a policy.
pub(crate) struct Bytes<'a> {
    all: &'a [u8],
    at: usize,
}

impl<'a> Bytes<'a> {
    pub(crate) const fn new(all: &'a [u8]) -> Self {
        Self { all, at: 0 }
    }

    /// An error about what was read last.
    pub(crate) const fn bad(&self, what: &'static str) -> PolicyError {
        self.problem(Problem::Bad(what))
    }

    /// An error here.
    pub(crate) const fn problem(&self, problem: Problem) -> PolicyError {
        PolicyError { offset: self.at, problem }
    }

    pub(crate) const fn left(&self) -> usize {
        self.all.len() - self.at
    }

    pub(crate) fn take(&mut self, length: usize, what: &'static str) -> Result<&'a [u8], PolicyError> {
        let rest = &self.all[self.at..];
        let taken = rest.get(..length).ok_or_else(|| self.problem(Problem::Short(what)))?;
        self.at += length;
        Ok(taken)
    }

    fn array<const N: usize>(&mut self, what: &'static str) -> Result<[u8; N], PolicyError> {
        let taken =
            self.all[self.at..].first_chunk::<N>().ok_or_else(|| self.problem(Problem::Short(what)))?;
        self.at += N;
        Ok(*taken)
    }

    pub(crate) fn u16(&mut self, what: &'static str) -> Result<u16, PolicyError> {
        self.array(what).map(u16::from_le_bytes)
    }

    pub(crate) fn u32(&mut self, what: &'static str) -> Result<u32, PolicyError> {
        self.array(what).map(u32::from_le_bytes)
    }

    pub(crate) fn u64(&mut self, what: &'static str) -> Result<u64, PolicyError> {
        self.array(what).map(u64::from_le_bytes)
    }

    /// A number of things that follow, each of at least `size` bytes: more than could follow is refused before any
    /// memory is taken for them.
    pub(crate) fn count(&mut self, size: usize, what: &'static str) -> Result<usize, PolicyError> {
        let count = usize::try_from(self.u32(what)?).unwrap_or(usize::MAX);
        if count > self.left() / size { Err(self.problem(Problem::Short(what))) } else { Ok(count) }
    }

    /// A name of `length` bytes.
    pub(crate) fn name(&mut self, length: u32, what: &'static str) -> Result<Box<str>, PolicyError> {
        let bytes = self.take(usize::try_from(length).unwrap_or(usize::MAX), what)?;
        match std::str::from_utf8(bytes) {
            Ok(name) if !name.is_empty() && !name.contains('\0') => Ok(name.into()),
            Ok(_) | Err(_) => Err(self.bad("a name that is empty or no text")),
        }
    }

    /// A bitmap (kernel: `ebitmap_read`): words of 64 bits, each with the number of its first bit.
    pub(crate) fn bitmap(&mut self) -> Result<Bitmap, PolicyError> {
        const WHAT: &str = "a bitmap";
        let (unit, high) = (self.u32(WHAT)?, self.u32(WHAT)?);
        let count = self.count(12, WHAT)?;
        if unit != 64 {
            return Err(self.bad("a bitmap whose words do not have 64 bits"));
        }
        let mut words = Vec::with_capacity(count);
        let mut next = 0;
        for _ in 0..count {
            let (start, word) = (self.u32(WHAT)?, self.u64(WHAT)?);
            if !start.is_multiple_of(64) || start < next || start >= high || word == 0 {
                return Err(self.bad("a bitmap whose words are out of order, empty or beyond its end"));
            }
            next = start.saturating_add(64);
            words.push((start / 64, word));
        }
        Ok(Bitmap::from_words(words))
    }
}
