//! Archives: tar, packed or not, and what layers of images are made of.

mod pax;
mod stream;
mod tar;

pub(crate) use stream::{Flow, Packing, Part, Peeked, Plain, Stream};
pub(crate) use tar::{Member, Members, TarError, What};

use std::sync::Arc;

use mivask_core::fact::Provenance;

use crate::error::{At, DiskError};
use crate::gathered::{AccountFiles, Gathered};
use crate::grow::Grower;

/// What is taken for granted of an archive that tells of no ACL.
const NO_ACLS: &str = "no file has an ACL: the archive tells of none";

/// Whether these are the first bytes of a tar archive.
pub(crate) fn is_tar(head: &[u8]) -> bool {
    let Some(block) = head.first_chunk::<512>() else { return false };
    if block[257..262] == *b"ustar" {
        return true;
    }
    // Before POSIX there was no mark, only the sum of the header.
    let digits: String = block[148..156].iter().map(|byte| char::from(*byte)).collect();
    let told = u32::from_str_radix(digits.trim_matches([' ', '\0']), 8).ok();
    let sum: u32 = block
        .iter()
        .enumerate()
        .map(|(at, byte)| u32::from(if (148..156).contains(&at) { b' ' } else { *byte }))
        .sum();
    block[0] != 0 && told == Some(sum)
}

/// The path of the first member, as far as its own header tells it.
pub(crate) fn first_name(head: &[u8]) -> &[u8] {
    let field = &head[..head.len().min(100)];
    field.split(|byte| *byte == 0).next().unwrap_or_default()
}

/// The tree of a plain archive: what a later member says of a path wins.
pub(crate) fn gather(name: &str, stream: &mut dyn Stream, sizes: bool) -> Result<Gathered, DiskError> {
    let mut members = Members::new(stream);
    let mut grower = Grower::new(Provenance::Source(Arc::from(name)), name, sizes);
    let mut accounts = AccountFiles::default();
    loop {
        let next = members.next(&mut |member, part| accounts.keep(&member.path, part));
        let Some(member) = next.map_err(|error| told(name, error))? else { break };
        grower.place(&member).map_err(|what| DiskError::whole(name, what))?;
    }
    let tells_acls = members.tells_acls;
    let (mut tree, holes) = grower.finish();
    if !tells_acls {
        tree.keep_silence(NO_ACLS);
    }
    Ok(Gathered { accounts: Some(accounts), ..Gathered::new(tree, holes) })
}

/// What is wrong with an archive, for its reader.
pub(crate) fn told(name: &str, error: TarError) -> DiskError {
    let (at, message) = match error {
        TarError::Io(error) => return DiskError::whole(name, format!("cannot be unpacked: {error}")),
        TarError::Cut(at) => (at, "the archive ends within a member: it was cut"),
        TarError::Header(at, what) => (at, what),
    };
    DiskError { source: name.to_owned(), at: At::Byte(at), message: message.to_owned(), help: None }
}
