//! One layer: what it adds and what it takes away (OCI image specification, "Image Layer Filesystem Changeset").

use std::io;

use crate::archive::{
    Flow, Member, Members, Packing, Part, Peeked, Stream, TarError, What, is_tar, tar_error,
};
use crate::error::DiskError;
use crate::gathered::AccountFiles;
use crate::grow::Grower;
use crate::unpack;
use mivask_model::ids::DiskOwner;
use mivask_model::mode::FileKind;

/// What a file of a layer is called that takes another away.
const WHITEOUT: &[u8] = b".wh.";
/// The name that takes away everything a directory had.
const OPAQUE: &[u8] = b".wh..wh..opq";
/// How much is looked at to see what a blob is.
const HEAD: u64 = 1024;

/// The members of one layer, without their content.
#[derive(Clone, Debug, Default)]
pub struct Layer {
    pub(super) members: Vec<Member>,
    /// Account files that it brings.
    pub(super) accounts: AccountFiles,
}

/// What a blob turned out to be.
pub(super) enum Blob {
    Layer(Layer),
    /// Something small that may be JSON.
    Text(Vec<u8>),
    /// Neither.
    Other,
}

/// The largest blob that is kept as text.
const MOST_TEXT: u64 = 8 << 20;

impl Blob {
    /// Reads a blob of an archive, which is called `name` in it.
    pub(super) fn read(name: &str, part: &mut Part<'_>) -> Result<Self, DiskError> {
        let failed = |error: io::Error| DiskError::io(name, &error);
        let length = part.left;
        let mut peeked = Peeked::new(part, HEAD).map_err(failed)?;
        let packing = Packing::of(peeked.head());
        match packing {
            Packing::None if is_tar(peeked.head()) => return Layer::read(name, &mut peeked).map(Self::Layer),
            Packing::None if matches!(peeked.head().first(), Some(b'{' | b'[')) && length <= MOST_TEXT => {
                let mut text = Vec::new();
                io::Read::read_to_end(&mut peeked, &mut text).map_err(failed)?;
                return Ok(Self::Text(text));
            }
            Packing::None => return Ok(Self::Other),
            Packing::Gzip | Packing::Zstd | Packing::Xz | Packing::Bzip2 | Packing::Unread(_) => {}
        }
        let Some(mut unpacked) = packing.unpack(peeked).map_err(failed)? else { return Ok(Self::Other) };
        Layer::read(name, &mut *unpacked).map(Self::Layer)
    }
}

impl Layer {
    /// Reads a layer that comes as a stream, packed or not, and is called `name` in errors. Its members' content is passed over.
    ///
    /// # Errors
    /// It is no archive, or one that was cut.
    pub fn from_stream(name: &str, input: &mut dyn io::Read) -> Result<Self, DiskError> {
        let mut flow = Flow(input);
        match Blob::read(name, &mut Part::new(&mut flow, u64::MAX))? {
            Blob::Layer(layer) => Ok(layer),
            Blob::Text(_) | Blob::Other => Err(DiskError::whole(name, "this is not a layer")),
        }
    }

    /// Reads the archive of a layer.
    pub(super) fn read(name: &str, stream: &mut dyn Stream) -> Result<Self, DiskError> {
        let mut layer = Self::default();
        let mut members = Members::new(stream);
        let failed = |error: TarError| tar_error(name, error);
        while let Some(member) =
            members.next(&mut |member, part| layer.accounts.keep(&member.path, part)).map_err(failed)?
        {
            layer.members.push(member);
        }
        Ok(layer)
    }

    /// Puts the layer on top of what is there: first it takes away, whatever the order of its members, then it adds.
    pub(super) fn apply(self, grower: &mut Grower, accounts: &mut AccountFiles) -> Result<(), String> {
        for member in &self.members {
            let (above, name) = split(&member.path);
            if name == OPAQUE {
                grower.whiteout(above, true)?;
            } else if let Some(gone) = name.strip_prefix(WHITEOUT) {
                grower.whiteout(&[above, b"/", gone].concat(), false)?;
            }
        }
        for member in self.members.iter().filter(|member| !is_whiteout(&member.path)) {
            add(grower, member)?;
        }
        for (own, all) in
            [(self.accounts.passwd, &mut accounts.passwd), (self.accounts.group, &mut accounts.group)]
        {
            if own.is_some() {
                *all = own;
            }
        }
        Ok(())
    }
}

/// Whether a member takes something away.
pub(super) fn is_whiteout(path: &[u8]) -> bool {
    split(path).1.starts_with(WHITEOUT)
}

/// Adds a member as an engine unpacks it.
pub(super) fn add(grower: &mut Grower, member: &Member) -> Result<(), String> {
    unpack::place(grower, member)?;
    // An engine gives the inode what the header of the link says, whatever that of the file said.
    if matches!(member.what, What::Same(_))
        && let Some(id) = grower.tree.find(&member.path)
    {
        let owner = DiskOwner::new(member.uid, member.gid);
        let place = grower.tree.place(id);
        // The bits of a link are what they are, whatever a header says.
        let inode = grower.tree.inode(id);
        let mode = if inode.kind == FileKind::Link { inode.stored_mode() } else { member.mode };
        grower.tree.own(id, owner, mode, place);
    }
    Ok(())
}

fn split(path: &[u8]) -> (&[u8], &[u8]) {
    let end = path.iter().rposition(|byte| *byte != b'/').map_or(0, |last| last + 1);
    let path = &path[..end];
    match path.iter().rposition(|byte| *byte == b'/') {
        Some(slash) => (&path[..slash], &path[slash + 1..]),
        None => (&[], path),
    }
}
