//! Bytes in order, packed or not, that can be passed over cheaply.

use std::fs::File;
use std::io::{self, BufReader, Cursor, Read, Seek, SeekFrom};

/// How much is read at once.
const ROOM: usize = 1 << 16;
/// How much memory an xz stream may claim for its dictionary, in KiB.
const MOST_XZ: u32 = 256 << 10;
/// The largest window of a zstd stream, as a power of two: 128 MiB.
const MOST_ZSTD: u32 = 27;

/// Something that is read from front to back.
pub(crate) trait Stream: Read {
    /// Passes over `count` bytes; fewer where it ends before.
    fn skip(&mut self, count: u64) -> io::Result<u64>;
}

/// A file, in which passing over costs nothing.
pub(crate) struct Plain {
    file: BufReader<File>,
    length: Option<u64>,
    at: u64,
}

impl Plain {
    pub(crate) fn new(file: File) -> Self {
        let length = file.metadata().ok().filter(std::fs::Metadata::is_file).map(|facts| facts.len());
        Self { file: BufReader::with_capacity(ROOM, file), length, at: 0 }
    }
}

impl Read for Plain {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let got = self.file.read(buffer)?;
        self.at += got as u64;
        Ok(got)
    }
}

impl Stream for Plain {
    fn skip(&mut self, count: u64) -> io::Result<u64> {
        let Some(length) = self.length else { return read_over(self, count) };
        let left = length.saturating_sub(self.at).min(count);
        match i64::try_from(left) {
            Ok(offset) => self.file.seek_relative(offset)?,
            Err(_) => drop(self.file.seek(SeekFrom::Start(self.at + left))?),
        }
        self.at += left;
        Ok(left)
    }
}

/// What comes out of a decompressor, or of anything else that only reads.
pub(crate) struct Flow<R>(pub R);

impl<R: Read> Read for Flow<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.0.read(buffer)
    }
}

impl<R: Read> Stream for Flow<R> {
    fn skip(&mut self, count: u64) -> io::Result<u64> {
        read_over(&mut self.0, count)
    }
}

/// A part of a stream, and no more.
pub(crate) struct Part<'s> {
    stream: &'s mut dyn Stream,
    /// Bytes that are left.
    pub left: u64,
}

impl<'s> Part<'s> {
    pub(crate) fn new(stream: &'s mut dyn Stream, length: u64) -> Self {
        Self { stream, left: length }
    }

    /// Passes over what is left; whether it was all there.
    pub(crate) fn finish(&mut self) -> io::Result<bool> {
        let left = self.left;
        Ok(self.skip(left)? == left)
    }
}

impl Read for Part<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let room = buffer.len().min(usize::try_from(self.left).unwrap_or(usize::MAX));
        if room == 0 {
            // Some decompressors take a read of nothing for the end.
            return Ok(0);
        }
        let got = self.stream.read(&mut buffer[..room])?;
        self.left -= got as u64;
        Ok(got)
    }
}

impl Stream for Part<'_> {
    fn skip(&mut self, count: u64) -> io::Result<u64> {
        let passed = self.stream.skip(count.min(self.left))?;
        self.left -= passed;
        Ok(passed)
    }
}

/// Bytes that were looked at, and the rest behind them.
pub(crate) struct Peeked<'s, 'p> {
    head: Cursor<Vec<u8>>,
    rest: &'p mut Part<'s>,
}

impl<'s, 'p> Peeked<'s, 'p> {
    /// Reads up to `length` bytes ahead.
    pub(crate) fn new(rest: &'p mut Part<'s>, length: u64) -> io::Result<Self> {
        let mut head = Vec::new();
        Read::take(&mut *rest, length).read_to_end(&mut head)?;
        Ok(Self { head: Cursor::new(head), rest })
    }

    pub(crate) fn head(&self) -> &[u8] {
        self.head.get_ref()
    }
}

impl Read for Peeked<'_, '_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        match self.head.read(buffer)? {
            0 => self.rest.read(buffer),
            got => Ok(got),
        }
    }
}

impl Stream for Peeked<'_, '_> {
    fn skip(&mut self, count: u64) -> io::Result<u64> {
        let ahead = self.head.get_ref().len() as u64 - self.head.position();
        let here = ahead.min(count);
        self.head.set_position(self.head.position() + here);
        Ok(here + self.rest.skip(count - here)?)
    }
}

fn read_over(reader: &mut dyn Read, count: u64) -> io::Result<u64> {
    let mut room = vec![0; ROOM];
    let mut passed = 0;
    while passed < count {
        let wanted = usize::try_from(count - passed).unwrap_or(ROOM).min(ROOM);
        match reader.read(&mut room[..wanted])? {
            0 => break,
            got => passed += got as u64,
        }
    }
    Ok(passed)
}

/// How bytes are packed.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Packing {
    /// Not at all.
    None,
    Gzip,
    Zstd,
    Xz,
    Bzip2,
    /// Known, but not read.
    Unread(&'static str),
}

impl Packing {
    /// By the first bytes.
    pub(crate) fn of(head: &[u8]) -> Self {
        match head {
            [0x1f, 0x8b, ..] => Self::Gzip,
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Self::Zstd,
            [0x50..=0x5f, 0x2a, 0x4d, 0x18, ..] => Self::Zstd,
            [0xfd, b'7', b'z', b'X', b'Z', 0, ..] => Self::Xz,
            [b'B', b'Z', b'h', b'1'..=b'9', ..] => Self::Bzip2,
            [0x04, 0x22, 0x4d, 0x18, ..] => Self::Unread("lz4"),
            [0x1f, 0x9d, ..] => Self::Unread("compress"),
            _ => Self::None,
        }
    }

    /// Unpacks `reader`; `None` for what is not read.
    pub(crate) fn unpack<'r, R: Read + 'r>(self, reader: R) -> io::Result<Option<Box<dyn Stream + 'r>>> {
        Ok(Some(match self {
            Self::None => Box::new(Flow(reader)),
            Self::Gzip => Box::new(Flow(flate2::read::MultiGzDecoder::new(reader))),
            Self::Zstd => {
                let mut decoder = zstd::stream::read::Decoder::new(reader)?;
                decoder.window_log_max(MOST_ZSTD)?;
                Box::new(Flow(decoder))
            }
            Self::Xz => Box::new(Flow(lzma_rust2::XzReader::new_mem_limit(reader, true, MOST_XZ))),
            Self::Bzip2 => Box::new(Flow(bzip2::read::MultiBzDecoder::new(reader))),
            Self::Unread(_) => return Ok(None),
        }))
    }
}
