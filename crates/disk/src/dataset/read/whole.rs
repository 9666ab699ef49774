//! A volume as the tree that a survey of it would be.

use std::collections::BTreeMap;
use std::sync::Arc;

use mivask_model::fact::Provenance;
use mivask_model::tree::{Entry, InodeId, Tree, TreeError, Unrecorded};
use parquet::errors::ParquetError;

use super::Day;
use super::fields::Tables;
use super::names::{Group, Names, text};
use crate::dataset::rows::{ACLS, ATTRIBUTES, CAPABILITIES};
use crate::dataset::text::bytes;
use crate::error::DiskError;

/// What the file says that it does not tell of.
pub(super) fn unrecorded(names: &Names) -> Unrecorded {
    let said = |key: &str| names.said(key).map(Arc::from);
    Unrecorded { acls: said(ACLS), capabilities: said(CAPABILITIES), attributes: said(ATTRIBUTES) }
}

/// Why a row cannot be taken.
enum Bad {
    Parquet(ParquetError),
    Damaged(String),
}

impl From<ParquetError> for Bad {
    fn from(error: ParquetError) -> Self {
        Self::Parquet(error)
    }
}

impl From<TreeError> for Bad {
    fn from(error: TreeError) -> Self {
        Self::Damaged(error.to_string())
    }
}

/// Reads every row.
pub(super) fn read(tables: &Tables, day: &Day) -> Result<Tree, DiskError> {
    let names = Names::open(&day.path).map_err(|error| day.failed(error))?;
    let origin = Provenance::Source(Arc::from(day.path.display().to_string().as_str()));
    let tree = Tree::new(Entry::directory(0, 0, 0o755), origin);
    let mut whole = Whole { tree, tables, last: (String::new(), Tree::ROOT), shared: BTreeMap::new() };
    whole.tree.expect(names.count(), 0, 0);
    for group in names.groups() {
        let taken = group.map_err(Bad::from).and_then(|group| whole.take(&group));
        taken.map_err(|bad| match bad {
            Bad::Parquet(error) => day.failed(error),
            Bad::Damaged(what) => day.damaged(&what),
        })?;
    }
    whole.tree.set_unrecorded(unrecorded(&names));
    Ok(whole.tree)
}

/// A tree that grows row by row.
struct Whole<'a> {
    tree: Tree,
    tables: &'a Tables,
    /// The last directory, by its path.
    last: (String, InodeId),
    /// Inodes of several names.
    shared: BTreeMap<i64, InodeId>,
}

impl Whole<'_> {
    fn take(&mut self, group: &Group<'_>) -> Result<(), Bad> {
        let (directories, names) = (group.texts("directory")?, group.texts("name")?);
        let (classes, inodes) = (group.numbers("class")?, group.some_numbers("inode")?);
        let (sizes, targets) = (group.some_numbers("size")?, group.some_texts("target")?);
        for at in 0..group.rows {
            let (directory, name) = (text(&directories[at])?, text(&names[at])?);
            let entry = self.tables.classes.get(&classes[at]).and_then(|told| told.entry.clone());
            let mut entry =
                entry.ok_or_else(|| Bad::Damaged("a class of its rows is in no table".to_owned()))?;
            entry.size = sizes[at].and_then(|size| u64::try_from(size).ok());
            if let Some(target) = &targets[at] {
                entry.target = bytes(text(target)?).into();
            }
            if name.is_empty() {
                self.enter(directory, entry)?;
                continue;
            }
            if self.last.0 != directory {
                return Err(Bad::Damaged(format!("a directory has no row: {directory}")));
            }
            let name = bytes(name);
            let known = inodes[at].and_then(|number| self.shared.get(&number));
            match known {
                Some(known) => self.tree.link(self.last.1, &name, *known)?,
                None => {
                    let id = self.tree.add(self.last.1, &name, entry)?;
                    self.shared.extend(inodes[at].map(|number| (number, id)));
                }
            }
        }
        Ok(())
    }

    /// A directory's own row comes before what is in it.
    fn enter(&mut self, path: &str, entry: Entry) -> Result<(), Bad> {
        let bytes = bytes(path);
        let id = match bytes.iter().rposition(|byte| *byte == b'/') {
            _ if path == "/" => {
                let origin = self.tree.place(Tree::ROOT);
                self.tree = Tree::new(entry, origin);
                Tree::ROOT
            }
            Some(at) => {
                let above = self.tree.find(&bytes[..at]);
                let above = above.ok_or_else(|| Bad::Damaged(format!("nothing is above {path}")))?;
                self.tree.add(above, &bytes[at + 1..], entry)?
            }
            None => return Err(Bad::Damaged(format!("a directory is not named from the root: {path}"))),
        };
        self.last = (path.to_owned(), id);
        Ok(())
    }
}
