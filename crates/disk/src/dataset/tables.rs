//! The two small tables: classes and ways.

use std::io::{self, Write};
use std::sync::Arc;

use mivask_model::tree::Marks;
use parquet::data_type::{ByteArray, ByteArrayType, Int32Type, Int64Type};
use parquet::errors::ParquetError;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::parser::parse_message_type;

use super::class::{Class, ClassId};
use super::rows::properties;
use crate::columns::{optional, required};

/// The columns of classes.
const CLASSES: &str = include_str!("columns/classes.message");

/// The columns of ways.
const WAYS: &str = include_str!("columns/ways.message");

/// Writes the table of classes.
pub(super) fn classes(out: impl Write + Send, all: &[(i64, &Class)]) -> io::Result<()> {
    classes_of(out, all).map_err(io::Error::other)
}

fn classes_of(out: impl Write + Send, all: &[(i64, &Class)]) -> Result<(), ParquetError> {
    let schema = Arc::new(parse_message_type(CLASSES)?);
    let mut file = SerializedFileWriter::new(out, schema, Arc::new(properties()?.build()))?;
    let mut rows = file.next_row_group()?;
    let ids: Vec<i64> = all.iter().map(|(id, _)| *id).collect();
    required::<_, Int64Type>(&mut rows, &ids)?;
    let kinds: Vec<ByteArray> = all.iter().map(|(_, class)| class.kind.word().into()).collect();
    required::<_, ByteArrayType>(&mut rows, &kinds)?;
    for number in [|class: &Class| class.uid, |class: &Class| class.gid] {
        let values = all.iter().map(|(_, class)| number(class).map(i64::from)).collect();
        optional::<_, Int64Type>(&mut rows, values)?;
    }
    optional::<_, Int32Type>(&mut rows, all.iter().map(|(_, class)| class.mode.map(i32::from)).collect())?;
    let mut texts: [Vec<Option<ByteArray>>; 6] = Default::default();
    for (_, class) in all {
        for (column, text) in texts.iter_mut().zip(class.texts()) {
            column.push(text.map(|text| text.as_str().into()));
        }
    }
    for column in texts {
        optional::<_, ByteArrayType>(&mut rows, column)?;
    }
    let marks: Vec<i32> = all.iter().map(|(_, class)| i32::from(class.marks)).collect();
    required::<_, Int32Type>(&mut rows, &marks)?;
    let flags: Vec<ByteArray> = all.iter().map(|(_, class)| flags(class).as_str().into()).collect();
    required::<_, ByteArrayType>(&mut rows, &flags)?;
    let major = |class: &Class| class.device.map(|device| i64::from(device.major));
    let minor = |class: &Class| class.device.map(|device| i64::from(device.minor));
    optional::<_, Int64Type>(&mut rows, all.iter().map(|(_, class)| major(class)).collect())?;
    optional::<_, Int64Type>(&mut rows, all.iter().map(|(_, class)| minor(class)).collect())?;
    rows.close()?;
    file.close().map(drop)
}

/// Attributes in words, with commas between them.
fn flags(class: &Class) -> String {
    let marks = Marks::of_told(class.marks);
    let named = [(Marks::IMMUTABLE, "immutable"), (Marks::APPEND_ONLY, "append-only")];
    let set = named.into_iter().filter(|(mark, _)| marks.has(*mark)).map(|(_, word)| word);
    set.collect::<Vec<_>>().join(",")
}

/// Writes the table of ways.
pub(super) fn ways(out: impl Write + Send, all: &[Way]) -> io::Result<()> {
    ways_of(out, all).map_err(io::Error::other)
}

/// A way, the one above, the class of its last directory, and how many it has.
type Way = (i64, i64, ClassId, u32);

fn ways_of(out: impl Write + Send, all: &[Way]) -> Result<(), ParquetError> {
    let schema = Arc::new(parse_message_type(WAYS)?);
    let mut file = SerializedFileWriter::new(out, schema, Arc::new(properties()?.build()))?;
    let mut rows = file.next_row_group()?;
    let columns: [fn(&Way) -> i64; 3] = [|one| one.0, |one| one.1, |one| one.2.0];
    for column in columns {
        let values: Vec<i64> = all.iter().map(column).collect();
        required::<_, Int64Type>(&mut rows, &values)?;
    }
    let depths: Vec<i32> = all.iter().map(|one| i32::try_from(one.3).unwrap_or(i32::MAX)).collect();
    required::<_, Int32Type>(&mut rows, &depths)?;
    rows.close()?;
    file.close().map(drop)
}
