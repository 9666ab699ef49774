//! Apache Parquet: a row an entry, by the standard crate.

use std::io::{self, Write};
use std::sync::Arc;

use mivask_model::tree::Tree;
use parquet::basic::{Compression, ZstdLevel};
use parquet::data_type::{ByteArray, ByteArrayType, Int32Type, Int64Type};
use parquet::errors::ParquetError;
use parquet::file::properties::WriterProperties;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::parser::parse_message_type;

use super::{each, has_unknown_attributes};
use crate::columns::{Column, required};

/// Names are bytes, since nothing says that they are text; ids of 32 bits need 64 where a column is signed.
const SCHEMA: &str = "message entry {
    required binary path;
    required binary kind (utf8);
    optional int64 uid;
    optional int64 gid;
    optional int32 mode;
    optional binary acl (utf8);
    optional binary default_acl (utf8);
    optional binary capabilities (utf8);
    optional binary target;
    optional binary label (utf8);
    optional int64 size;
}";

/// Rows that are written together.
const GROUP: usize = 1 << 17;

#[derive(Default)]
struct Group {
    rows: usize,
    path: Vec<ByteArray>,
    kind: Vec<ByteArray>,
    ids: [Column<i64>; 2],
    mode: Column<i32>,
    texts: [Column<ByteArray>; 5],
    size: Column<i64>,
}

pub(super) fn write(out: &mut (dyn Write + Send), tree: &Tree) -> io::Result<()> {
    let failed = |error: ParquetError| io::Error::other(error);
    let schema = Arc::new(parse_message_type(SCHEMA).map_err(failed)?);
    let level = ZstdLevel::try_new(3).map_err(failed)?;
    let properties = Arc::new(WriterProperties::builder().set_compression(Compression::ZSTD(level)).build());
    let mut writer = SerializedFileWriter::new(out, schema, properties).map_err(failed)?;
    let mut group = Group::default();
    each(tree, &mut |row| {
        let id = row.id;
        let inode = tree.inode(row.id);
        let given = !has_unknown_attributes(tree, id);
        group.rows += 1;
        group.path.push(row.path.to_vec().into());
        group.kind.push(inode.kind.word().into());
        group.ids[0].push(given.then(|| inode.stored_owner().uid.raw().into()));
        group.ids[1].push(given.then(|| inode.stored_owner().gid.raw().into()));
        group.mode.push(given.then(|| inode.stored_mode().bits().into()));
        let text = |text: Option<String>| text.map(|text| text.as_str().into());
        group.texts[0].push(text(tree.acl(id).map(ToString::to_string)));
        group.texts[1].push(text(tree.default_acl(id).map(ToString::to_string)));
        group.texts[2].push(text(tree.capabilities(id).map(ToString::to_string)));
        group.texts[3].push(tree.target(id).map(|target| target.to_vec().into()));
        let label = tree.extended(id).and_then(|extended| extended.label.as_deref());
        group.texts[4].push(label.map(Into::into));
        group.size.push(tree.size(id).and_then(|size| i64::try_from(size).ok()));
        if group.rows == GROUP {
            flush(&mut writer, &std::mem::take(&mut group)).map_err(failed)?;
        }
        Ok(())
    })?;
    if group.rows > 0 {
        flush(&mut writer, &group).map_err(failed)?;
    }
    writer.close().map(drop).map_err(failed)
}

fn flush<W: Write + Send>(writer: &mut SerializedFileWriter<W>, group: &Group) -> Result<(), ParquetError> {
    let mut rows = writer.next_row_group()?;
    for values in [&group.path, &group.kind] {
        required::<_, ByteArrayType>(&mut rows, values)?;
    }
    for column in &group.ids {
        column.write::<_, Int64Type>(&mut rows)?;
    }
    group.mode.write::<_, Int32Type>(&mut rows)?;
    for column in &group.texts {
        column.write::<_, ByteArrayType>(&mut rows)?;
    }
    group.size.write::<_, Int64Type>(&mut rows)?;
    rows.close().map(drop)
}
