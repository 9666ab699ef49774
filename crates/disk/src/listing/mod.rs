//! Listings that someone made with ordinary tools and pasted: text, recognised by its first lines
//! (docs/formats/sources.md says which commands make them).

mod collect;
mod find;
mod getfacl;
mod lines;
mod ls;
mod mtree;
mod owners;
mod stat;
mod unescape;

use std::io::BufRead;

use mivask_model::mode::{FileKind, Mode};

use crate::error::DiskError;
use crate::gathered::Gathered;
pub(crate) use lines::Lines;
pub(crate) use owners::Owners;
pub(crate) use unescape::backslashes;

/// Whether a line may begin a listing of some kind.
type Test = fn(&[u8]) -> bool;

/// A kind of listing.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Kind {
    Mtree,
    Getfacl,
    Ls,
    Find,
    Stat,
}

/// What a text is, by its beginning; `None` where it is not a listing.
pub(crate) fn kind(head: &[u8]) -> Option<Kind> {
    let lines = head.split(|byte| matches!(byte, b'\n' | 0));
    let lines = lines.filter(|line| !line.trim_ascii().is_empty() && !lines::is_typed(line));
    lines.take(8).find_map(|line| {
        let tests: [(Kind, Test); 5] = [
            (Kind::Mtree, mtree::fits),
            (Kind::Getfacl, getfacl::fits),
            (Kind::Stat, stat::fits),
            (Kind::Find, find::fits),
            (Kind::Ls, ls::fits),
        ];
        tests.into_iter().find(|(_, fits)| fits(line)).map(|(kind, _)| kind)
    })
}

/// Reads a listing.
pub(crate) fn gather(
    kind: Kind,
    name: &str,
    input: &mut dyn BufRead,
    owners: Owners,
) -> Result<Gathered, DiskError> {
    match kind {
        Kind::Mtree => mtree::gather(name, input, owners),
        Kind::Getfacl => getfacl::gather(name, input, owners),
        Kind::Ls => ls::gather(name, input, owners),
        Kind::Find => find::gather(name, input),
        Kind::Stat => stat::gather(name, input),
    }
}

/// The kind that the first letter of a mode such as `drwxr-x---` tells; find writes `f` for a file.
fn kind_of_letter(letter: u8) -> Option<FileKind> {
    if letter == b'f' { Some(FileKind::File) } else { FileKind::of_letter(letter) }
}

/// A number of digits only.
pub(crate) fn number<T: std::str::FromStr>(digits: &[u8]) -> Option<T> {
    let plain = !digits.is_empty() && digits.iter().all(u8::is_ascii_digit);
    if !plain {
        return None;
    }
    std::str::from_utf8(digits).ok()?.parse().ok()
}

/// Up to five octal digits.
fn octal(digits: &[u8]) -> Option<Mode> {
    let plain = (1..=5).contains(&digits.len()) && digits.iter().all(|digit| (b'0'..=b'7').contains(digit));
    if !plain {
        return None;
    }
    let text = std::str::from_utf8(digits).ok()?;
    u16::from_str_radix(text, 8).ok().filter(|bits| *bits <= 0o7777).map(Mode::new)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn listings_are_told_apart() {
        for (text, expected) in [
            ("#mtree\n/set type=file\n", Kind::Mtree),
            ("./a uid=0 gid=0 mode=0755 type=dir\n", Kind::Mtree),
            ("# file: data\n# owner: 7101\n", Kind::Getfacl),
            ("$ ls -lan\ntotal 8\n", Kind::Ls),
            ("total 8\n-rw-r--r-- 1 0 0 1 Nov  2 10:00 a\n", Kind::Ls),
            ("/srv:\ntotal 8\n", Kind::Ls),
            ("drwxr-x---. 2 root tides 4096 Nov  2 10:00 a\n", Kind::Ls),
            ("750 7101 7200 d /srv\n", Kind::Find),
            ("750 7101 7200 directory /srv\n", Kind::Stat),
            ("  File: /srv\n  Size: 4096\n", Kind::Stat),
        ] {
            assert_eq!(kind(text.as_bytes()), Some(expected), "{text}");
        }
        assert_eq!(kind(b"scene: 1\nworkloads: [a]\n"), None);
        assert_eq!(kind(b"apiVersion: v1\nkind: Pod\n"), None);
    }
}
