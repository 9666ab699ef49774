//! One volume of one day, written into a dataset.

use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::PathBuf;

use mivask_model::mode::FileKind;
use mivask_model::tree::{Marks, Unrecorded};

use super::class::{Class, ClassId, Classes};
use super::rows::{Row, Rows};
use super::ways::{WayId, Ways};
use super::{Target, Unnamed, Written};
use super::{digest, tables};

/// One name in a directory.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Entry<'a> {
    /// Its name; empty of the row of a directory itself.
    pub(crate) name: &'a [u8],
    /// Its kind.
    pub(crate) kind: FileKind,
    /// The size of a file in bytes, where it is known.
    pub(crate) size: Option<u64>,
    /// Its class.
    pub(crate) class: ClassId,
    /// A number that all names of one inode share, where it has several.
    pub(crate) inode: Option<u64>,
    /// What a symbolic link points to.
    pub(crate) target: Option<&'a [u8]>,
}

/// Takes rows in any order of directories, the names of each together. Nothing is seen of it before [`Self::finish`], and what is
/// dropped before leaves nothing.
pub(crate) struct Writer {
    target: Target,
    rows: Rows<BufWriter<File>>,
    unnamed: Box<dyn Unnamed>,
    classes: Classes,
    ways: Ways,
}

impl Writer {
    /// Begins.
    ///
    /// # Errors
    /// The folder cannot be written to.
    pub(crate) fn new(target: Target) -> io::Result<Self> {
        std::fs::create_dir_all(&target.folder)?;
        let unnamed = (target.begin)(&target.folder)?;
        let rows = Rows::new(BufWriter::with_capacity(1 << 20, unnamed.file().try_clone()?))?;
        Ok(Self { target, rows, unnamed, classes: Classes::default(), ways: Ways::default() })
    }

    /// The number of a class with nothing special about it; `empty` says that a file has no bytes.
    pub(crate) fn plain(
        &mut self,
        kind: FileKind,
        marks: Marks,
        who: (u32, u32, u16),
        empty: bool,
    ) -> ClassId {
        self.classes.plain(kind, marks, who, empty)
    }

    /// The number of any class.
    pub(crate) fn class(&mut self, class: Class) -> ClassId {
        self.classes.add(class)
    }

    /// A directory at the end of `above`, by its path from the root, `/` for that: its own row comes first, without a name, and what follows
    /// is in it, at the end of the way that comes back.
    ///
    /// # Errors
    /// The file cannot be written.
    pub(crate) fn directory(&mut self, path: &[u8], above: WayId, class: Class) -> io::Result<WayId> {
        let class = self.classes.add(class);
        self.rows.enter(path, above.0);
        let (name, kind) = (&b""[..], FileKind::Directory);
        self.entry(&Entry { name, kind, size: None, class, inode: None, target: None })?;
        let way = self.ways.through(above, class);
        self.rows.enter(path, way.0);
        Ok(way)
    }

    /// A name there.
    ///
    /// # Errors
    /// The file cannot be written.
    pub(crate) fn entry(&mut self, entry: &Entry<'_>) -> io::Result<()> {
        self.rows.push(&Row {
            name: entry.name,
            kind: entry.kind.word(),
            size: entry.size.and_then(|size| i64::try_from(size).ok()),
            class: entry.class.0,
            // A number of 64 bits keeps its bits.
            inode: entry.inode.map(|number| number.cast_signed()),
            target: entry.target,
        })
    }

    /// Puts all in its place: classes and ways first, under the names of their digests, and then the rows, in the place of those of the
    /// same volume and day; `unrecorded` is what they do not tell of.
    ///
    /// # Errors
    /// A file cannot be written or named.
    pub(crate) fn finish(self, unrecorded: &Unrecorded) -> io::Result<Written> {
        let Self { target, rows, unnamed, classes, ways } = self;
        let (count, sorted, chains) = (rows.count, classes.sorted(), ways.sorted());
        let mut bytes = table(&target, "classes", |out| tables::classes(out, &sorted))?;
        bytes += table(&target, "ways", |out| tables::ways(out, &chains))?;
        let digest = rows.finish(unrecorded)?;
        digest::seal(unnamed.file(), &digest)?;
        bytes += unnamed.file().metadata()?.len();
        let partition = target.partition();
        std::fs::create_dir_all(&partition)?;
        unnamed.name(&partition.join("part.parquet"))?;
        Ok(Written { rows: count, classes: sorted.len(), ways: chains.len(), bytes })
    }
}

impl Target {
    /// The folder of this volume and day.
    fn partition(&self) -> PathBuf {
        let volume = format!("volume={}", self.volume.as_str());
        self.folder.join("entries").join(volume).join(format!("date={}", self.date))
    }
}

/// Writes a small table under the name of its digest, and tells its length.
fn table(target: &Target, name: &str, fill: impl FnOnce(&mut Vec<u8>) -> io::Result<()>) -> io::Result<u64> {
    let mut bytes = Vec::new();
    fill(&mut bytes)?;
    let folder = target.folder.join(name);
    std::fs::create_dir_all(&folder)?;
    let unnamed = (target.begin)(&target.folder)?;
    unnamed.file().write_all(&bytes)?;
    unnamed.name(&folder.join(format!("{}.parquet", digest::of(&bytes))))?;
    Ok(bytes.len() as u64)
}
