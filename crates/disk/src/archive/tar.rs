//! Members of a tar archive, one after the other (POSIX ustar and pax, and the GNU form).
//!
//! Headers are decoded by the `tar` crate; the loop over them is ours, because a header may claim names of any size
//! and a reader of hostile archives must not believe it.

use std::io::{self, Read};

use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{Content, Device, Extended};
use tar::{EntryType, Header};

use super::pax::{Pax, Tells};
use super::stream::{Part, Stream};

/// Bytes of the largest file there can be (`loff_t` is signed).
const LARGEST: u64 = u64::MAX / 2;

const BLOCK: u64 = 512;
/// The most bytes of an extended header, or of a long name. A path has at most 4,096 bytes, an attribute 65,536.
const MOST_EXTENDED: u64 = 1 << 20;
/// How much of a program is read to see what it is.
const HEAD: u64 = 256;

/// One member, as it is given.
#[derive(Clone, Debug)]
pub(crate) struct Member {
    pub path: Vec<u8>,
    pub what: What,
    pub uid: u32,
    pub gid: u32,
    pub mode: Mode,
    pub size: u64,
    pub extended: Extended,
    /// Whether every ACL of it was understood.
    pub understood: bool,
    pub content: Content,
}

impl Member {
    /// The member of the same archive that this one is a name of or a link to; links are given from their directory.
    pub(crate) fn leads_to(&self) -> Option<Vec<u8>> {
        match &self.what {
            What::Same(first) => Some(first.clone()),
            What::Link(target) => {
                let above = self.path.iter().rposition(|byte| *byte == b'/').map_or(0, |slash| slash + 1);
                Some([&self.path[..above], target.as_slice()].concat())
            }
            What::Kind(_) | What::Device(..) => None,
        }
    }
}

/// What a member is.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum What {
    Kind(FileKind),
    /// A link to this target.
    Link(Vec<u8>),
    /// A further name of the member at this path.
    Same(Vec<u8>),
    Device(FileKind, Device),
}

/// Why an archive cannot be read to its end.
#[derive(Debug)]
pub(crate) enum TarError {
    Io(io::Error),
    /// It ends within a member.
    Cut(u64),
    /// An invalid header.
    Header(u64, &'static str),
}

/// The members of `stream`.
pub(crate) struct Members<'s> {
    stream: &'s mut dyn Stream,
    /// Where the next header begins.
    at: u64,
    global: Pax,
    /// What any member mentions.
    pub tells: Tells,
}

impl<'s> Members<'s> {
    pub(crate) fn new(stream: &'s mut dyn Stream) -> Self {
        Self { stream, at: 0, global: Pax::default(), tells: Tells::default() }
    }

    /// The next member, its content given to `body` before it is passed over. `None` at the end.
    pub(crate) fn next(
        &mut self,
        body: &mut dyn FnMut(&Member, &mut Part<'_>) -> io::Result<()>,
    ) -> Result<Option<Member>, TarError> {
        let mut pax = self.global.clone();
        loop {
            let at = self.at;
            let Some(header) = self.header()? else { return Ok(None) };
            let size = size_of(&header, at)?;
            #[expect(clippy::wildcard_enum_match_arm, reason = "every other kind is a member")]
            match header.entry_type() {
                EntryType::XHeader => {
                    let records = self.extended(size)?;
                    pax.add(&records).map_err(|_| TarError::Header(at, "an extended header is malformed"))?;
                }
                EntryType::XGlobalHeader => {
                    let records = self.extended(size)?;
                    let added = self.global.add(&records).and_then(|()| pax.add(&records));
                    added.map_err(|_| TarError::Header(at, "an extended header is malformed"))?;
                }
                EntryType::GNULongName => pax.path = Some(self.name(size)?),
                EntryType::GNULongLink => pax.link = Some(self.name(size)?),
                _ => return self.member(&header, pax, at, body).map(Some),
            }
        }
    }

    fn member(
        &mut self,
        header: &Header,
        pax: Pax,
        at: u64,
        body: &mut dyn FnMut(&Member, &mut Part<'_>) -> io::Result<()>,
    ) -> Result<Member, TarError> {
        self.tells.add(pax.tells);
        let number = |given: Option<u64>, own: io::Result<u64>, what| {
            let number = given.map_or(own, Ok).ok().and_then(|number| u32::try_from(number).ok());
            number.ok_or(TarError::Header(at, what))
        };
        let old = header.as_old();
        // An empty field is nought.
        let or_nought = |field: &[u8], own: io::Result<u64>| if is_blank(field) { Ok(0) } else { own };
        let uid = number(pax.uid, or_nought(&old.uid, header.uid()), "its owner is not a number of 32 bits")?;
        let gid = number(pax.gid, or_nought(&old.gid, header.gid()), "its group is not a number of 32 bits")?;
        let bits = or_nought(&old.mode, header.mode().map(u64::from));
        let bits = bits.map_err(|_| TarError::Header(at, "its mode is not a number"))?;
        let mode = Mode::new(u16::try_from(bits & 0o7777).unwrap_or_default());
        let path = pax.path.clone().unwrap_or_else(|| header.path_bytes().into_owned());
        let what = what(header, &pax, &path).map_err(|what| TarError::Header(at, what))?;
        if header.entry_type() == EntryType::GNUSparse {
            self.sparse(header, at)?;
        }
        let given = size_of(header, at)?;
        let stored = match what {
            What::Kind(FileKind::File) => bounded(pax.size.unwrap_or(given), at)?,
            // A pax size belongs to files; other members have no content, whatever they claim.
            What::Kind(_) | What::Link(_) | What::Device(..) => 0,
            What::Same(_) => given,
        };
        let size = match header.as_gnu() {
            // What is stored of a sparse file are its blocks alone.
            Some(gnu) if header.entry_type() == EntryType::GNUSparse => gnu.real_size().unwrap_or(stored),
            Some(_) | None => stored,
        };
        let (extended, understood) = pax.extended(mode);
        let mut member =
            Member { path, what, uid, gid, mode, size, extended, understood, content: Content::Unknown };
        let mut part = Part::new(self.stream, stored);
        member.content = content(&member, pax.sparse, &mut part).map_err(TarError::Io)?;
        body(&member, &mut part).map_err(TarError::Io)?;
        let whole = part.finish().map_err(TarError::Io)?;
        self.at += stored;
        if !whole {
            return Err(TarError::Cut(self.at));
        }
        self.pad(stored)?;
        Ok(member)
    }

    /// The next header; two blocks of nothing, or no further byte, are the end.
    fn header(&mut self) -> Result<Option<Header>, TarError> {
        let at = self.at;
        let Some(block) = self.block()? else { return Ok(None) };
        if block.iter().all(|byte| *byte == 0) {
            return Ok(None);
        }
        let header = Header::from_byte_slice(&block).clone();
        let given = header.cksum().ok();
        let unsigned: u32 = sum(&block).map(u32::from).sum();
        let signed: i64 = sum(&block).map(|byte| i64::from(byte.cast_signed())).sum();
        if given != Some(unsigned) && given.map(i64::from) != Some(signed) {
            return Err(TarError::Header(at, "this is not a header: its checksum does not match"));
        }
        Ok(Some(header))
    }

    fn block(&mut self) -> Result<Option<[u8; 512]>, TarError> {
        let mut block = [0; 512];
        let mut filled = 0;
        while filled < block.len() {
            match self.stream.read(&mut block[filled..]).map_err(TarError::Io)? {
                0 if filled == 0 => return Ok(None),
                0 => return Err(TarError::Cut(self.at + filled as u64)),
                got => filled += got,
            }
        }
        self.at += BLOCK;
        Ok(Some(block))
    }

    /// The content of an extended header.
    fn extended(&mut self, size: u64) -> Result<Vec<u8>, TarError> {
        if size > MOST_EXTENDED {
            return Err(TarError::Header(self.at - BLOCK, "an extended header of more than 1 MiB"));
        }
        let mut bytes = Vec::new();
        let got = Read::take(&mut *self.stream, size).read_to_end(&mut bytes).map_err(TarError::Io)?;
        self.at += got as u64;
        if (got as u64) < size {
            return Err(TarError::Cut(self.at));
        }
        self.pad(size)?;
        Ok(bytes)
    }

    fn name(&mut self, size: u64) -> Result<Vec<u8>, TarError> {
        let mut name = self.extended(size)?;
        while name.last() == Some(&0) {
            name.pop();
        }
        Ok(name)
    }

    /// What fills the last block up; an archive may end without it, as for every unpacker.
    fn pad(&mut self, size: u64) -> Result<(), TarError> {
        let rest = size.next_multiple_of(BLOCK) - size;
        self.at += self.stream.skip(rest).map_err(TarError::Io)?;
        Ok(())
    }

    /// The maps of a sparse file that do not fit into its header.
    fn sparse(&mut self, header: &Header, at: u64) -> Result<(), TarError> {
        let mut more = header.as_gnu().is_some_and(tar::GnuHeader::is_extended);
        while more {
            let Some(block) = self.block()? else { return Err(TarError::Cut(at)) };
            // The byte behind 21 pairs of twelve digits each.
            more = block[504] == 1;
        }
        Ok(())
    }
}

fn is_blank(field: &[u8]) -> bool {
    field.iter().all(|byte| matches!(byte, 0 | b' '))
}

/// The bytes that count for the checksum: its own field as blanks.
fn sum(block: &[u8; 512]) -> impl Iterator<Item = u8> + '_ {
    block.iter().enumerate().map(|(at, byte)| if (148..156).contains(&at) { b' ' } else { *byte })
}

fn what(header: &Header, pax: &Pax, path: &[u8]) -> Result<What, &'static str> {
    let target = || {
        let own = header.link_name_bytes().map(std::borrow::Cow::into_owned);
        pax.link.clone().or(own).ok_or("a link without a target")
    };
    let device = |kind| {
        let numbers = (header.device_major(), header.device_minor());
        match numbers {
            (Ok(Some(major)), Ok(Some(minor))) => Ok(What::Device(kind, Device { major, minor })),
            _ => Ok(What::Kind(kind)),
        }
    };
    #[expect(clippy::wildcard_enum_match_arm, reason = "POSIX says how to read an unknown type")]
    match header.entry_type() {
        // The oldest archives tell directories by a slash alone.
        EntryType::Regular if path.ends_with(b"/") => Ok(What::Kind(FileKind::Directory)),
        EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse => Ok(What::Kind(FileKind::File)),
        EntryType::Link => target().map(What::Same),
        EntryType::Symlink => target().map(What::Link),
        EntryType::Char => device(FileKind::CharDevice),
        EntryType::Block => device(FileKind::BlockDevice),
        EntryType::Directory => Ok(What::Kind(FileKind::Directory)),
        EntryType::Fifo => Ok(What::Kind(FileKind::Fifo)),
        // POSIX: a type no one knows is read as a regular file.
        _ => Ok(What::Kind(FileKind::File)),
    }
}

/// What execve would meet: only of files that may be run, or have no byte.
fn content(member: &Member, sparse: bool, part: &mut Part<'_>) -> io::Result<Content> {
    if member.what != What::Kind(FileKind::File) {
        return Ok(Content::Unknown);
    }
    if member.size == 0 {
        return Ok(Content::Empty);
    }
    if sparse || !member.mode.has_any(Mode::ANY_EXECUTE) {
        return Ok(Content::Unknown);
    }
    let mut head = Vec::with_capacity(256);
    Read::take(part, HEAD).read_to_end(&mut head)?;
    Ok(crate::program::content(&head))
}

/// Bytes of a member's content.
fn size_of(header: &Header, at: u64) -> Result<u64, TarError> {
    let field = &header.as_old().size;
    // In base 256 the second bit is the sign (GNU tar); in octal a minus says it.
    let negative = field[0] & 0xc0 == 0xc0 || field.trim_ascii_start().starts_with(b"-");
    if negative {
        return Err(TarError::Header(at, "its size is negative"));
    }
    let size = header.entry_size().map_err(|_| TarError::Header(at, "its size is not a number"))?;
    bounded(size, at)
}

/// A size that can be counted on from any place.
fn bounded(size: u64, at: u64) -> Result<u64, TarError> {
    if size > LARGEST { Err(TarError::Header(at, "its size is more than any file has")) } else { Ok(size) }
}
