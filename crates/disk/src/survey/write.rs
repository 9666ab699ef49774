//! From a tree to a survey.

use std::io::{self, Write};

use mivask_model::tree::{InodeId, Tree};

use super::beside::Beside;
use super::frame::{FrameWriter, Kind, Packed, Packer};
use super::recorder::Recorder;
use super::{Head, MAGIC, MAGIC_LABELLED};
use crate::gathered::{Gathered, Holes};

/// Records `tree`, which came from `source`.
///
/// # Errors
/// `out` cannot be written.
pub fn write(out: &mut dyn Write, tree: &Tree, source: &str, holes: Holes) -> io::Result<()> {
    Recorded::of(tree)?.write_with(out, &head(tree, source, holes))
}

/// Records all that a source gave, which is called `source`: for an image that is also its user, its accounts and what
/// else its configuration says. Passwords in account files are left out.
///
/// # Errors
/// `out` cannot be written.
pub fn record(out: &mut dyn Write, gathered: &Gathered, source: &str) -> io::Result<()> {
    Recorded::of(&gathered.tree)?.write(out, gathered, source)
}

/// A survey that is made while its tree grows.
pub(crate) struct Recording {
    recorder: Recorder,
    sizes: bool,
}

impl Recording {
    /// Begins with the root of a tree, whose files will have sizes or not.
    pub(crate) fn begin(tree: &Tree, sizes: bool) -> io::Result<Self> {
        Ok(Self { recorder: Recorder::new(tree, sizes)?, sizes })
    }

    /// The entries of `dir` are known now; directories come in the order of paths.
    pub(crate) fn directory(&mut self, tree: &Tree, dir: InodeId) -> io::Result<()> {
        self.recorder.up_to(tree, dir)
    }

    /// The tree is whole.
    pub(crate) fn finish(self, tree: &Tree) -> io::Result<Recorded> {
        if let Some((frames, labelled)) = self.recorder.finish(tree)? {
            return Ok(Recorded { frames, labelled });
        }
        // A label where the root has none: now it is known that there are labels.
        let again = Recorder::new(tree, self.sizes)?.finish(tree)?;
        let (frames, labelled) = again.ok_or_else(|| io::Error::other("labels came and went"))?;
        Ok(Recorded { frames, labelled })
    }
}

/// A survey but for its head.
pub struct Recorded {
    frames: Vec<Packed>,
    labelled: bool,
}

impl std::fmt::Debug for Recorded {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Recorded").field("frames", &self.frames.len()).finish_non_exhaustive()
    }
}

impl Recorded {
    fn of(tree: &Tree) -> io::Result<Self> {
        Recording::begin(tree, tree.has_sizes())?.finish(tree)
    }

    /// Writes it, with what else a source gave that is called `source`, as [`record`] does.
    ///
    /// # Errors
    /// `out` cannot be written.
    pub fn write(&self, out: &mut dyn Write, gathered: &Gathered, source: &str) -> io::Result<()> {
        let image = Beside::of(gathered.accounts.as_ref(), gathered.image.as_ref());
        self.write_with(out, &Head { image, ..head(&gathered.tree, source, gathered.holes) })
    }

    fn write_with(&self, out: &mut dyn Write, head: &Head) -> io::Result<()> {
        out.write_all(if self.labelled { MAGIC_LABELLED } else { MAGIC })?;
        let head = Packer::new()?.pack(Kind::Head, &serde_json::to_vec(head)?)?;
        let mut frames = FrameWriter::new(out);
        frames.write(&head)?;
        self.frames.iter().try_for_each(|frame| frames.write(frame))
    }
}

fn head(tree: &Tree, source: &str, holes: Holes) -> Head {
    let (directories, name_bytes) = tree.extent();
    let unrecorded = tree.unrecorded();
    let count = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
    Head {
        source: source.to_owned(),
        inodes: count(tree.len()),
        directories: count(directories),
        name_bytes: count(name_bytes),
        unrecorded: [&unrecorded.acls, &unrecorded.capabilities, &unrecorded.attributes]
            .map(|text| text.as_deref().map(str::to_owned)),
        vanished: holes.vanished,
        denied: holes.denied,
        failed: holes.failed,
        boundaries: holes.boundaries,
        image: Beside::default(),
    }
}
