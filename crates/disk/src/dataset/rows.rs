//! The rows of entries, a group at a time.

use std::io::{self, Write};
use std::sync::Arc;

use mivask_model::tree::Unrecorded;
use parquet::basic::{Compression, Encoding, ZstdLevel};
use parquet::data_type::{ByteArray, ByteArrayType, Int64Type};
use parquet::errors::ParquetError;
use parquet::file::metadata::KeyValue;
use parquet::file::properties::{WriterProperties, WriterPropertiesBuilder};
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::parser::parse_message_type;
use parquet::schema::types::ColumnPath;

use super::digest::{self, Digesting};
use super::text::text;
use crate::columns::{Column, required};

/// The columns of entries; `docs/formats/dataset.md` has what each means.
pub(super) const SCHEMA: &str = include_str!("columns/entries.message");

/// What a file says of what it does not tell of: the words of each assumption.
pub(super) const ACLS: &str = "mivask.acls";
/// The same of file capabilities.
pub(super) const CAPABILITIES: &str = "mivask.capabilities";
/// The same of the immutable and append-only attributes.
pub(super) const ATTRIBUTES: &str = "mivask.attributes";

/// Rows of one group: what is held in memory at a time, and what an engine reads or leaves out as a whole.
const GROUP: usize = 1 << 18;

/// How columns are written.
pub(super) fn properties() -> io::Result<WriterPropertiesBuilder> {
    let level = ZstdLevel::try_new(6).map_err(io::Error::other)?;
    Ok(WriterProperties::builder().set_compression(Compression::ZSTD(level)))
}

/// Rows that are written together.
#[derive(Default)]
struct Group {
    directory: Vec<ByteArray>,
    name: Vec<ByteArray>,
    kind: Vec<ByteArray>,
    size: Column<i64>,
    class: Vec<i64>,
    way: Vec<i64>,
    inode: Column<i64>,
    target: Column<ByteArray>,
}

/// One row.
pub(super) struct Row<'a> {
    pub name: &'a [u8],
    pub kind: &'static str,
    pub size: Option<i64>,
    pub class: i64,
    pub inode: Option<i64>,
    pub target: Option<&'a [u8]>,
}

/// A file of rows.
pub(super) struct Rows<W: Write + Send> {
    file: SerializedFileWriter<Digesting<W>>,
    group: Group,
    directory: ByteArray,
    way: i64,
    pub count: u64,
}

impl<W: Write + Send> Rows<W> {
    pub(super) fn new(out: W) -> io::Result<Self> {
        let schema = Arc::new(parse_message_type(SCHEMA).map_err(io::Error::other)?);
        // Names are sorted in each directory, so that one begins as the one before.
        let name = ColumnPath::from("name");
        let properties = properties()?
            .set_column_dictionary_enabled(name.clone(), false)
            .set_column_encoding(name, Encoding::DELTA_BYTE_ARRAY)
            .build();
        let out = Digesting::new(out);
        let file = SerializedFileWriter::new(out, schema, Arc::new(properties)).map_err(io::Error::other)?;
        let (group, directory) = (Group::default(), ByteArray::from("/"));
        Ok(Self { file, group, directory, way: 0, count: 0 })
    }

    /// The rows that follow are in this directory, by its path from the root, `/` for that itself.
    pub(super) fn enter(&mut self, directory: &[u8], way: i64) {
        self.directory = ByteArray::from(text(directory).as_ref());
        self.way = way;
    }

    pub(super) fn push(&mut self, row: &Row<'_>) -> io::Result<()> {
        let group = &mut self.group;
        group.directory.push(self.directory.clone());
        group.name.push(text(row.name).as_ref().into());
        group.kind.push(row.kind.into());
        group.size.push(row.size);
        group.class.push(row.class);
        group.way.push(self.way);
        group.inode.push(row.inode);
        group.target.push(row.target.map(|target| text(target).as_ref().into()));
        self.count += 1;
        if group.way.len() == GROUP { self.flush() } else { Ok(()) }
    }

    fn flush(&mut self) -> io::Result<()> {
        let group = std::mem::take(&mut self.group);
        self.written(&group).map_err(io::Error::other)
    }

    fn written(&mut self, group: &Group) -> Result<(), ParquetError> {
        let mut rows = self.file.next_row_group()?;
        for values in [&group.directory, &group.name, &group.kind] {
            required::<_, ByteArrayType>(&mut rows, values)?;
        }
        group.size.write::<_, Int64Type>(&mut rows)?;
        for values in [&group.class, &group.way] {
            required::<_, Int64Type>(&mut rows, values)?;
        }
        group.inode.write::<_, Int64Type>(&mut rows)?;
        group.target.write::<_, ByteArrayType>(&mut rows)?;
        rows.close().map(drop)
    }

    /// Writes what is left, and the end of the file; gives the digest of all, which goes into its place.
    pub(super) fn finish(mut self, unrecorded: &Unrecorded) -> io::Result<String> {
        let said = [
            (ACLS, &unrecorded.acls),
            (CAPABILITIES, &unrecorded.capabilities),
            (ATTRIBUTES, &unrecorded.attributes),
        ];
        for (key, words) in said {
            if let Some(words) = words {
                self.file.append_key_value_metadata(KeyValue::new(key.to_owned(), words.to_string()));
            }
        }
        if !self.group.way.is_empty() {
            self.flush()?;
        }
        self.file.append_key_value_metadata(KeyValue::new(digest::KEY.to_owned(), digest::placeholder()));
        self.file.into_inner().map_err(io::Error::other)?.finish()
    }
}
