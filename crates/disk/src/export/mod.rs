//! Trees in the formats of other tools.

mod jsonl;
mod mtree;
#[cfg(feature = "parquet")]
mod parquet;
mod tar_listing;

use std::io::{self, Write};

use mivask_model::mode::FileKind;
use mivask_model::tree::{InodeId, Tree};

/// A format a tree can be written in.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Format {
    /// mtree(5), with whole paths.
    Mtree,
    /// One JSON object an entry.
    Jsonl,
    /// Mode, owner, size and name of each entry, as the lists of tar archives show them.
    TarListing,
    /// Apache Parquet, a row an entry.
    Parquet,
}

impl Format {
    /// Whether this build can write it: Parquet is a feature.
    #[must_use]
    pub const fn is_built_in(self) -> bool {
        match self {
            Self::Mtree | Self::Jsonl | Self::TarListing => true,
            Self::Parquet => cfg!(feature = "parquet"),
        }
    }
}

/// Writes `tree` in `format`.
///
/// # Errors
/// `out` cannot be written, or the format is not built in.
pub fn write(out: &mut (dyn Write + Send), tree: &Tree, format: Format) -> io::Result<()> {
    match format {
        Format::Mtree => mtree::write(out, tree),
        Format::Jsonl => jsonl::write(out, tree),
        Format::TarListing => tar_listing::write(out, tree),
        #[cfg(feature = "parquet")]
        Format::Parquet => parquet::write(out, tree),
        #[cfg(not(feature = "parquet"))]
        Format::Parquet => Err(io::ErrorKind::Unsupported.into()),
    }
}

/// One name in a tree.
struct Row<'t> {
    /// Its path below the root, `.` for the root itself.
    path: &'t [u8],
    id: InodeId,
    /// The path of an earlier name of the same inode.
    same: Option<&'t [u8]>,
}

/// Every name, each directory before what is in it, in the order of names.
fn each(tree: &Tree, row: &mut dyn FnMut(Row<'_>) -> io::Result<()>) -> io::Result<()> {
    row(Row { path: b".", id: Tree::ROOT, same: None })?;
    // Only inodes with several names are worth remembering, and only a second look tells which those are.
    let mut names = vec![0_u8; tree.len()];
    for dir in tree.ids() {
        for (_, id) in tree.children(dir) {
            let count = &mut names[id.number() as usize];
            *count = count.saturating_add(1);
        }
    }
    let mut first: std::collections::BTreeMap<InodeId, Vec<u8>> = std::collections::BTreeMap::new();
    let mut path: Vec<u8> = b".".to_vec();
    let mut levels = vec![(Tree::ROOT, 0_usize, 1_usize)];
    while let Some((dir, next, length)) = levels.last_mut() {
        let Some((name, id)) = tree.child(*dir, *next) else {
            levels.pop();
            continue;
        };
        *next += 1;
        path.truncate(*length);
        path.push(b'/');
        path.extend_from_slice(name);
        row(Row { path: &path, id, same: first.get(&id).map(Vec::as_slice) })?;
        if names[id.number() as usize] > 1 {
            first.entry(id).or_insert_with(|| path.clone());
        }
        if tree.inode(id).kind == FileKind::Directory {
            let length = path.len();
            levels.push((id, 0, length));
        }
    }
    Ok(())
}

/// Whether owner and mode of an inode are not known.
fn has_unknown_attributes(tree: &Tree, id: InodeId) -> bool {
    tree.doubt(id).is_some_and(|doubt| doubt.unknown_attribute().is_some())
}
