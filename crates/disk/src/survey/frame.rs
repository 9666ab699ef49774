//! One frame: kind, lengths, checksum, compressed bytes.

use std::io::{self, Read, Write};

/// Bytes of a frame before its payload: kind, stored length, raw length, checksum.
pub(super) const HEADER: usize = 13;
/// No frame has more raw bytes: a reader never needs more memory for one.
pub(super) const MOST_RAW: usize = 1 << 24;
/// How hard the compression tries.
const LEVEL: i32 = 3;

/// What a frame holds.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Kind {
    /// The head, as JSON.
    Head,
    /// Entries of directories.
    Directories,
    /// The number of inodes: nothing follows.
    End,
}

impl Kind {
    const ALL: [Self; 3] = [Self::Head, Self::Directories, Self::End];

    const fn byte(self) -> u8 {
        match self {
            Self::Head => b'H',
            Self::Directories => b'D',
            Self::End => b'E',
        }
    }
}

/// A frame that is compressed and has no place in a file yet.
pub(super) struct Packed {
    kind: Kind,
    stored: Vec<u8>,
    raw_length: u32,
}

/// Compresses frames.
pub(super) struct Packer(zstd::bulk::Compressor<'static>);

impl Packer {
    pub(super) fn new() -> io::Result<Self> {
        Ok(Self(zstd::bulk::Compressor::new(LEVEL)?))
    }

    pub(super) fn pack(&mut self, kind: Kind, raw: &[u8]) -> io::Result<Packed> {
        let raw_length = u32::try_from(raw.len()).map_err(|_| io::Error::other("a frame is too large"))?;
        Ok(Packed { kind, stored: self.0.compress(raw)?, raw_length })
    }
}

/// Writes frames, each checked together with the one before.
pub(super) struct FrameWriter<'w> {
    out: &'w mut dyn Write,
    last: u32,
}

impl<'w> FrameWriter<'w> {
    pub(super) fn new(out: &'w mut dyn Write) -> Self {
        Self { out, last: 0 }
    }

    pub(super) fn write(&mut self, Packed { kind, stored, raw_length }: &Packed) -> io::Result<()> {
        let length = u32::try_from(stored.len()).map_err(|_| io::Error::other("a frame is too large"))?;
        self.last = checksum(self.last, kind.byte(), length, *raw_length, stored);
        self.out.write_all(&[kind.byte()])?;
        for word in [length, *raw_length, self.last] {
            self.out.write_all(&word.to_le_bytes())?;
        }
        self.out.write_all(stored)
    }
}

/// Why there is no next frame.
pub(super) enum FrameError {
    Io(io::Error),
    /// The file ends within a frame, or before the last one.
    Cut,
    Damaged(&'static str),
}

/// Reads frames and checks them.
pub(super) struct FrameReader<'r> {
    input: &'r mut dyn Read,
    decompressor: zstd::bulk::Decompressor<'static>,
    stored: Vec<u8>,
    raw: Vec<u8>,
    last: u32,
    /// Where the frame begins that is read.
    pub at: u64,
}

impl<'r> FrameReader<'r> {
    /// `at` bytes were read before.
    pub(super) fn new(input: &'r mut dyn Read, at: u64) -> io::Result<Self> {
        let decompressor = zstd::bulk::Decompressor::new()?;
        Ok(Self { input, decompressor, stored: Vec::new(), raw: Vec::new(), last: 0, at })
    }

    /// The next frame.
    pub(super) fn next(&mut self) -> Result<(Kind, &[u8]), FrameError> {
        self.at += if self.last == 0 { 0 } else { (HEADER + self.stored.len()) as u64 };
        let mut header = [0; HEADER];
        self.fill_header(&mut header)?;
        let word =
            |at: usize| u32::from_le_bytes([header[at], header[at + 1], header[at + 2], header[at + 3]]);
        let stored = word(1);
        let raw = word(5);
        let sum = word(9);
        let kind = Kind::ALL.into_iter().find(|kind| kind.byte() == header[0]);
        let kind = kind.ok_or(FrameError::Damaged("this is not a frame of a survey"))?;
        if raw as usize > MOST_RAW || stored as usize > MOST_RAW + (MOST_RAW >> 4) {
            return Err(FrameError::Damaged("a frame claims more bytes than any has"));
        }
        self.stored.clear();
        let got = Read::take(&mut *self.input, u64::from(stored)).read_to_end(&mut self.stored);
        if got.map_err(FrameError::Io)? < stored as usize {
            return Err(FrameError::Cut);
        }
        self.last = checksum(self.last, header[0], stored, raw, &self.stored);
        if self.last != sum {
            return Err(FrameError::Damaged("the checksum of a frame does not match"));
        }
        self.raw.resize(raw as usize, 0);
        match self.decompressor.decompress_to_buffer(&self.stored, &mut self.raw[..]) {
            Ok(length) if length == raw as usize => Ok((kind, &self.raw)),
            Ok(_) | Err(_) => Err(FrameError::Damaged("a frame does not unpack")),
        }
    }

    /// Whether nothing follows.
    pub(super) fn is_at_end(&mut self) -> io::Result<bool> {
        Ok(self.input.read(&mut [0])? == 0)
    }

    fn fill_header(&mut self, header: &mut [u8]) -> Result<(), FrameError> {
        match self.input.read_exact(header) {
            Ok(()) => Ok(()),
            Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => Err(FrameError::Cut),
            Err(error) => Err(FrameError::Io(error)),
        }
    }
}

/// CRC-32 of the frame before, the kind, both lengths and the stored bytes.
fn checksum(last: u32, kind: u8, stored: u32, raw: u32, bytes: &[u8]) -> u32 {
    let mut sum = crc32fast::Hasher::new();
    sum.update(&last.to_le_bytes());
    sum.update(&[kind]);
    sum.update(&stored.to_le_bytes());
    sum.update(&raw.to_le_bytes());
    sum.update(bytes);
    // Nought means "no frame yet".
    sum.finalize().max(1)
}
