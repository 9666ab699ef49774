//! Archives: tar, packed or not, and what layers of images are made of.

mod pax;
mod stream;
mod tar;

pub(crate) use stream::{Flow, Packing, Part, Peeked, Plain, Stream};
pub(crate) use tar::{Member, Members, TarError, What};

use crate::error::{At, DiskError};

/// Whether these are the first bytes of a tar archive.
pub(crate) fn is_tar(head: &[u8]) -> bool {
    let Some(block) = head.first_chunk::<512>() else { return false };
    if block[257..262] == *b"ustar" {
        return true;
    }
    // Before POSIX there was no mark, only the sum of the header.
    let digits: String = block[148..156].iter().map(|byte| char::from(*byte)).collect();
    let given = u32::from_str_radix(digits.trim_matches([' ', '\0']), 8).ok();
    let sum: u32 = block
        .iter()
        .enumerate()
        .map(|(at, byte)| u32::from(if (148..156).contains(&at) { b' ' } else { *byte }))
        .sum();
    block[0] != 0 && given == Some(sum)
}

/// The path of the first member that is not the folder itself (`./`), as far as its own header tells it.
pub(crate) fn first_name(mut head: &[u8]) -> &[u8] {
    /// Where the size and the type of a member are (POSIX.1-2001, ustar).
    const SIZE: std::ops::Range<usize> = 124..136;
    const TYPE: usize = 156;
    loop {
        let field = &head[..head.len().min(100)];
        let name = field.split(|byte| *byte == 0).next().unwrap_or_default();
        let kind = head.get(TYPE).copied().unwrap_or_default();
        let passed = matches!(name, b"./" | b".") || matches!(kind, b'x' | b'g' | b'L' | b'K');
        let digits = head.get(SIZE).map(|size| size.split(|byte| !byte.is_ascii_digit()).next());
        let size = digits.flatten().and_then(|digits| std::str::from_utf8(digits).ok());
        let size = size.and_then(|text| usize::from_str_radix(text, 8).ok()).unwrap_or(0);
        let next = size.checked_next_multiple_of(512).and_then(|size| head.get(size.checked_add(512)?..));
        match next.filter(|next| passed && is_tar(next)) {
            Some(next) => head = next,
            None => return name,
        }
    }
}

/// What is wrong with an archive, for its reader.
pub(crate) fn tar_error(name: &str, error: TarError) -> DiskError {
    let (at, message) = match error {
        TarError::Io(error) => return DiskError::whole(name, format!("cannot be unpacked: {error}")),
        TarError::Cut(at) => (at, "the archive ends within a member: it was cut"),
        TarError::Header(at, what) => (at, what),
    };
    DiskError { source: name.to_owned(), at: At::Byte(at), message: message.to_owned(), help: None }
}
