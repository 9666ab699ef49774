//! Rows of the two small tables, and the entries that classes describe.

use std::collections::BTreeMap;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use mivask_model::acl::Acl;
use mivask_model::fact::Unknown;
use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{Certainty, Content, Device, Doubt, Entry, Marks};
use parquet::errors::ParquetError;
use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::record::{Field, Row};

use crate::dataset::text::bytes;
use crate::dataset::{Assumed, capabilities, digest};
use crate::error::DiskError;

/// A row of a small table.
type Fields = BTreeMap<String, Field>;

/// What a class says.
#[derive(Debug)]
pub(super) struct Told {
    /// An entry of it; `None` where that cannot be read.
    pub(super) entry: Option<Entry>,
    /// Whether it is a directory with something in it.
    pub(super) holds: bool,
}

/// The way above a way, and the class of its last directory.
#[derive(Clone, Copy, Debug)]
pub(super) struct Step {
    pub(super) above: i64,
    pub(super) class: i64,
}

/// Both small tables, of all volumes together.
#[derive(Debug)]
pub(in crate::dataset) struct Tables {
    pub(super) classes: BTreeMap<i64, Told>,
    pub(super) ways: BTreeMap<i64, Step>,
}

impl Tables {
    /// Those of the dataset in `folder`.
    pub(super) fn read(folder: &Path) -> Result<Self, DiskError> {
        let mut classes = BTreeMap::new();
        each(folder, "classes", &mut |fields| {
            let Some(class) = number(fields, "class") else { return };
            let entry = entry_of(fields);
            let directory = entry.as_ref().is_some_and(|entry| entry.kind == FileKind::Directory);
            let holds = directory && word(fields, "content").is_none();
            classes.insert(class, Told { entry, holds });
        })?;
        let mut ways = BTreeMap::new();
        each(folder, "ways", &mut |fields| {
            let step = number(fields, "above").zip(number(fields, "class"));
            if let (Some(way), Some((above, class))) = (number(fields, "way"), step) {
                ways.insert(way, Step { above, class });
            }
        })?;
        Ok(Self { classes, ways })
    }
}

/// Shows every row of the tables of this name.
fn each(folder: &Path, name: &str, show: &mut dyn FnMut(&Fields)) -> Result<(), DiskError> {
    let place = folder.join(name);
    let failed = |path: &Path, error: String| {
        let error = error.strip_prefix("Parquet error: ").unwrap_or(&error);
        DiskError::whole(&path.display().to_string(), error)
            .with_help("take the surveys again whose rows are of its time")
    };
    let files = std::fs::read_dir(&place).map_err(|error| failed(&place, error.to_string()))?;
    for file in files {
        let path: PathBuf = file.map_err(|error| failed(&place, error.to_string()))?.path();
        if path.extension().is_none_or(|extension| extension != "parquet") {
            continue;
        }
        let rows = || -> Result<Vec<Row>, ParquetError> {
            let mut file = File::open(&path)?;
            // Its name is its digest: what has another was not written whole, or is no table.
            if path.file_stem().is_none_or(|name| *name != *digest::of_all(&mut file).unwrap_or_default()) {
                return Err(ParquetError::General("it is damaged: its name is not its digest".to_owned()));
            }
            SerializedFileReader::new(file)?.get_row_iter(None)?.collect()
        };
        for row in rows().map_err(|error| failed(&path, error.to_string()))? {
            show(&row.into_columns().into_iter().collect());
        }
    }
    Ok(())
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

/// What is not unknown, and not told either.
fn take_for_granted(doubt: &mut Doubt, assumed: Assumed) {
    let all = [
        (&mut doubt.owner, assumed.owner),
        (&mut doubt.mode, assumed.mode),
        (&mut doubt.contents, assumed.contents),
        (&mut doubt.kind, assumed.kind),
    ];
    for (certainty, text) in all {
        if let (Certainty::Known, Some(text)) = (&certainty, text) {
            *certainty = Certainty::Assumed(text.into());
        }
    }
}

/// An entry as the columns of a class describe it.
fn entry_of(fields: &Fields) -> Option<Entry> {
    let kind = FileKind::ALL.into_iter().find(|kind| word(fields, "kind") == Some(kind.word()))?;
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
        Some(text) => Some(capabilities::parsed(text)?),
        None => None,
    };
    entry.extended.label = word(fields, "label").map(Arc::from);
    entry.marks = Marks::of_told(u8::try_from(number(fields, "marks")?).ok()?);
    if let Some(text) = word(fields, "assumed") {
        take_for_granted(entry.doubt.get_or_insert_with(Doubt::default), serde_json::from_str(text).ok()?);
    }
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
        Some(script) => Content::Script(bytes(script.strip_prefix("script ")?).into()),
    };
    let device = small("major").flatten().zip(small("minor").flatten());
    entry.device = device.map(|(major, minor)| Device { major, minor });
    Some(entry)
}
