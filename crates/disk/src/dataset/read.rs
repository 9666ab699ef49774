//! A volume of a dataset, as a small tree: one directory for each way, one entry in it for each class that occurs there.
//!
//! Every act ends on such an entry as it does on all entries of that class at the end of that way, whatever their names are, so that
//! answers about thousands of pairs are answers about all rows.

use std::collections::BTreeMap;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use mivask_model::acl::Acl;
use mivask_model::fact::{Provenance, Unknown};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{Certainty, Content, Device, Doubt, Entry, InodeId, Marks, Tree, TreeError};
use parquet::column::reader::ColumnReader;
use parquet::errors::ParquetError;
use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::record::{Field, Row};

use super::VolumeName;
use crate::error::DiskError;

/// How many entries of a class are at the end of a way.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Pair {
    /// The inode that stands for them in the tree.
    pub inode: InodeId,
    /// The number of the way.
    pub way: i64,
    /// The number of the class.
    pub class: i64,
    /// How many there are.
    pub entries: u64,
}

/// A volume of one day.
#[derive(Debug)]
#[non_exhaustive]
pub struct Volume {
    /// The tree of its pairs.
    pub tree: Tree,
    /// What its inodes stand for.
    pub pairs: Vec<Pair>,
    /// The day.
    pub date: String,
}

/// The days of a volume, the first first.
///
/// # Errors
/// The dataset has no such volume, or cannot be read.
pub fn days(folder: &Path, volume: &VolumeName) -> Result<Vec<String>, DiskError> {
    let place = folder.join("entries").join(format!("volume={}", volume.as_str()));
    let failed = |error: std::io::Error| DiskError::io(&place.display().to_string(), &error);
    let mut all = Vec::new();
    for entry in std::fs::read_dir(&place).map_err(failed)? {
        let name = entry.map_err(failed)?.file_name();
        let day = name.to_str().and_then(|name| name.strip_prefix("date="));
        all.extend(day.filter(|day| super::is_date(day)).map(str::to_owned));
    }
    all.sort_unstable();
    Ok(all)
}

/// The volume of that day, or of the last one that there is.
///
/// # Errors
/// There is none, or a file is damaged.
pub fn volume(folder: &Path, volume: &VolumeName, date: Option<&str>) -> Result<Volume, DiskError> {
    let date = match date {
        Some(date) => date.to_owned(),
        None => days(folder, volume)?.pop().ok_or_else(|| {
            DiskError::whole(
                &folder.display().to_string(),
                format!("there is no day of volume {}", volume.as_str()),
            )
        })?,
    };
    let place = format!("entries/volume={}/date={date}/part.parquet", volume.as_str());
    let path = folder.join(place);
    let failed = |error: String| DiskError::whole(&path.display().to_string(), error);
    let counted = counted(&path).map_err(|error| failed(error.to_string()))?;
    let mut building = Building::new(folder, &path)?;
    building.root(&counted)?;
    building.pairs(&counted)?;
    Ok(Volume { tree: building.tree, pairs: building.pairs, date })
}

/// How often each way and class occur together.
type Counted = BTreeMap<(i64, i64), u64>;

/// Reads two columns of the rows and nothing else.
fn counted(path: &Path) -> Result<Counted, ParquetError> {
    let reader = SerializedFileReader::new(File::open(path)?)?;
    let schema = reader.metadata().file_metadata().schema_descr_ptr();
    let column = |name: &str| {
        let at = (0..schema.num_columns()).find(|at| schema.column(*at).name() == name);
        at.ok_or_else(|| ParquetError::General(format!("there is no column {name}")))
    };
    let (class, way) = (column("class")?, column("way")?);
    let mut counted = Counted::new();
    for number in 0..reader.num_row_groups() {
        let group = reader.get_row_group(number)?;
        let rows = usize::try_from(group.metadata().num_rows()).unwrap_or(0);
        let classes = numbers(group.get_column_reader(class)?, rows)?;
        let ways = numbers(group.get_column_reader(way)?, rows)?;
        let mut last: Option<((i64, i64), u64)> = None;
        for key in ways.into_iter().zip(classes) {
            match &mut last {
                Some((known, count)) if *known == key => *count += 1,
                _ => {
                    if let Some((key, count)) = last.replace((key, 1)) {
                        *counted.entry(key).or_insert(0) += count;
                    }
                }
            }
        }
        if let Some((key, count)) = last {
            *counted.entry(key).or_insert(0) += count;
        }
    }
    Ok(counted)
}

/// A column of numbers without gaps.
fn numbers(reader: ColumnReader, rows: usize) -> Result<Vec<i64>, ParquetError> {
    let ColumnReader::Int64ColumnReader(mut reader) = reader else {
        return Err(ParquetError::General("a column of numbers is none".to_owned()));
    };
    let mut values = Vec::new();
    while values.len() < rows {
        let before = values.len();
        reader.read_records(rows - before, None, None, &mut values)?;
        if values.len() == before {
            return Err(ParquetError::General("a column ends too early".to_owned()));
        }
    }
    Ok(values)
}

/// A row of a small table.
type Fields = BTreeMap<String, Field>;

/// Every row of the tables of this name, by the number in column `key`.
fn table(folder: &Path, (name, key): (&str, &str)) -> Result<BTreeMap<i64, Fields>, DiskError> {
    let place = folder.join(name);
    let failed = |path: &Path, error: String| DiskError::whole(&path.display().to_string(), error);
    let files = std::fs::read_dir(&place).map_err(|error| failed(&place, error.to_string()))?;
    let mut all = BTreeMap::new();
    for file in files {
        let path: PathBuf = file.map_err(|error| failed(&place, error.to_string()))?.path();
        if path.extension().is_none_or(|extension| extension != "parquet") {
            continue;
        }
        let rows = || -> Result<Vec<Row>, ParquetError> {
            SerializedFileReader::new(File::open(&path)?)?.get_row_iter(None)?.collect()
        };
        for row in rows().map_err(|error| failed(&path, error.to_string()))? {
            let fields: Fields = row.into_columns().into_iter().collect();
            if let Some(number) = number(&fields, key) {
                all.insert(number, fields);
            }
        }
    }
    Ok(all)
}

fn number(fields: &Fields, name: &str) -> Option<i64> {
    let field = fields.get(name)?;
    if let Field::Long(number) = field { Some(*number) } else { small(field) }
}

/// A number of 32 bits.
fn small(field: &Field) -> Option<i64> {
    let Field::Int(number) = field else { return None };
    Some((*number).into())
}

fn word<'f>(fields: &'f Fields, name: &str) -> Option<&'f str> {
    let Some(Field::Str(text)) = fields.get(name) else { return None };
    Some(text)
}

/// A tree of pairs that is being made.
struct Building<'a> {
    tree: Tree,
    pairs: Vec<Pair>,
    classes: BTreeMap<i64, Fields>,
    ways: BTreeMap<i64, Fields>,
    /// The directory at the end of each way.
    ends: BTreeMap<i64, InodeId>,
    path: &'a Path,
}

impl<'a> Building<'a> {
    fn new(folder: &Path, path: &'a Path) -> Result<Self, DiskError> {
        let origin = Provenance::Source(Arc::from(path.display().to_string().as_str()));
        Ok(Self {
            tree: Tree::new(Entry::directory(0, 0, 0o755), origin),
            pairs: Vec::new(),
            classes: table(folder, ("classes", "class"))?,
            ways: table(folder, ("ways", "way"))?,
            ends: BTreeMap::new(),
            path,
        })
    }

    fn damaged(&self, what: &str) -> DiskError {
        DiskError::whole(&self.path.display().to_string(), what.to_owned())
            .with_help("take the survey of this volume again")
    }

    /// The root: the only entry above which nothing is.
    fn root(&mut self, counted: &Counted) -> Result<(), DiskError> {
        let root = counted.keys().find(|(way, _)| *way == 0).map(|(_, class)| *class);
        let class = root.ok_or_else(|| self.damaged("there is no root among the rows"))?;
        let entry = self.entry(class)?;
        let origin = self.tree.place(Tree::ROOT);
        self.tree = Tree::new(entry, origin);
        self.pairs.push(Pair { inode: Tree::ROOT, way: 0, class, entries: 1 });
        let through = self
            .ways
            .iter()
            .find(|(_, way)| number(way, "above") == Some(0) && number(way, "class") == Some(class));
        self.ends.extend(through.map(|(id, _)| (*id, Tree::ROOT)));
        Ok(())
    }

    /// Everything below.
    fn pairs(&mut self, counted: &Counted) -> Result<(), DiskError> {
        for ((way, class), entries) in counted.iter().filter(|((way, _), _)| *way != 0) {
            let end = self.end(*way)?;
            let entry = self.entry(*class)?;
            // A directory that others are in stands for itself.
            let inode = match self.through(*way, *class) {
                Some(through) if entry.kind == FileKind::Directory => self.end(through)?,
                Some(_) | None => self.added(end, &format!("class {class:016x}"), entry)?,
            };
            self.pairs.push(Pair { inode, way: *way, class: *class, entries: *entries });
        }
        Ok(())
    }

    /// The way through a directory of this class at the end of `way`.
    fn through(&self, way: i64, class: i64) -> Option<i64> {
        let is =
            |fields: &Fields| number(fields, "above") == Some(way) && number(fields, "class") == Some(class);
        let id = super::ways::id(way, class);
        self.ways.get(&id).filter(|fields| is(fields)).map(|_| id)
    }

    /// The directory at the end of a way, made with those above it.
    fn end(&mut self, way: i64) -> Result<InodeId, DiskError> {
        let mut missing = Vec::new();
        let mut next = way;
        let mut here = loop {
            if let Some(known) = self.ends.get(&next) {
                break *known;
            }
            let fields =
                self.ways.get(&next).ok_or_else(|| self.damaged("a way of its rows is in no table"))?;
            let above = number(fields, "above").filter(|above| *above != 0 && missing.len() < 1 << 16);
            missing.push((next, number(fields, "class").unwrap_or(0)));
            next = above.ok_or_else(|| self.damaged("a way does not begin at the root"))?;
        };
        for (way, class) in missing.into_iter().rev() {
            let entry = self.entry(class)?;
            here = self.added(here, &format!("way {way:016x}"), entry)?;
            self.ends.insert(way, here);
        }
        Ok(here)
    }

    fn added(&mut self, directory: InodeId, name: &str, entry: Entry) -> Result<InodeId, DiskError> {
        let added = self.tree.add(directory, name.as_bytes(), entry);
        added.map_err(|error: TreeError| self.damaged(&error.to_string()))
    }

    /// An entry of a class.
    fn entry(&self, class: i64) -> Result<Entry, DiskError> {
        let fields =
            self.classes.get(&class).ok_or_else(|| self.damaged("a class of its rows is in no table"))?;
        entry_of(fields).ok_or_else(|| self.damaged("a class cannot be read"))
    }
}

/// Every kind, as the columns name them.
const KINDS: [FileKind; 7] = [
    FileKind::File,
    FileKind::Directory,
    FileKind::Link,
    FileKind::Fifo,
    FileKind::Socket,
    FileKind::CharDevice,
    FileKind::BlockDevice,
];

/// An entry as the columns of a class describe it.
fn entry_of(fields: &Fields) -> Option<Entry> {
    let kind = KINDS.into_iter().find(|kind| word(fields, "kind") == Some(kind.word()))?;
    let small = |name: &str| number(fields, name).map(|number| u32::try_from(number).ok());
    let (uid, gid) = (small("uid"), small("gid"));
    let mode = number(fields, "mode");
    let bits = Mode::new(u16::try_from(mode.unwrap_or(0)).ok()?);
    let mut entry = Entry::new(kind, uid.unwrap_or(Some(0))?, gid.unwrap_or(Some(0))?, bits);
    let settle = "take the survey again as a user with the right to look, such as root";
    let certainty = |what: &str, known: bool| match known {
        true => Certainty::Known,
        false => Certainty::Unknown(Unknown::new(&format!("the {what} of entries of this class"), settle)),
    };
    if uid.is_none() || gid.is_none() || mode.is_none() {
        let owner = certainty("owner", uid.is_some() && gid.is_some());
        entry.doubt = Some(Doubt { owner, mode: certainty("mode", mode.is_some()), ..Doubt::default() });
    }
    let acl = |name: &str| match word(fields, name) {
        Some(text) => Acl::parse(text, bits).ok().map(Some),
        None => Some(None),
    };
    entry.extended.access = acl("acl")?;
    entry.extended.default = acl("default_acl")?;
    entry.extended.capabilities = match word(fields, "capabilities") {
        Some(text) => Some(text.parse().ok()?),
        None => None,
    };
    entry.extended.label = word(fields, "label").map(Arc::from);
    entry.marks = Marks::of_told(u8::try_from(number(fields, "marks")?).ok()?);
    let content = word(fields, "content");
    if kind == FileKind::Directory && content == Some("unlisted") {
        let unknown = Unknown::new("what is in directories of this class", settle);
        entry.doubt.get_or_insert_with(Doubt::default).contents = Certainty::Unknown(unknown);
    }
    entry.content = match content.filter(|_| kind == FileKind::File) {
        None => Content::Unknown,
        Some("program") => Content::Program,
        Some("data") => Content::Data,
        Some("empty") => Content::Empty,
        Some(script) => Content::Script(super::rows::bytes(script.strip_prefix("script ")?).into()),
    };
    let device = small("major").flatten().zip(small("minor").flatten());
    entry.device = device.map(|(major, minor)| Device { major, minor });
    Some(entry)
}
