//! The columns of verdicts.

use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::Path;
use std::sync::Arc;

use parquet::data_type::{ByteArray, ByteArrayType, Int64Type};
use parquet::errors::ParquetError;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::parser::parse_message_type;

use super::rows::properties;
use super::text::text;
use super::unnamed::Begin;
use super::verdicts::{ActRow, ActorRow, PairRows, RegionRow, Verdicts};
use crate::columns::{optional, required};

const ACTORS: &str = include_str!("columns/actors.message");

const VERDICTS: &str = include_str!("columns/verdicts.message");

const REGIONS: &str = include_str!("columns/regions.message");

/// Verdicts that are written together.
const GROUP: usize = 1 << 20;

/// Writes every table and tells their bytes.
pub(super) fn write(into: (&Path, Begin), all: &Verdicts) -> io::Result<u64> {
    let mut bytes = file(into, "regions", |out| regions(out, &all.regions))?;
    bytes += file(into, "verdicts", |out| verdicts(out, all))?;
    Ok(bytes + file(into, "actors", |out| actors(out, &all.actors))?)
}

/// Writes a file in the place of the one that was there.
fn file(
    (folder, begin): (&Path, Begin),
    name: &str,
    fill: impl FnOnce(BufWriter<&File>) -> Result<(), ParquetError>,
) -> io::Result<u64> {
    let place = folder.join(name);
    std::fs::create_dir_all(&place)?;
    let unnamed = begin(folder)?;
    fill(BufWriter::with_capacity(1 << 20, unnamed.file())).map_err(io::Error::other)?;
    let bytes = unnamed.file().metadata()?.len();
    unnamed.name(&place.join("part.parquet"))?;
    Ok(bytes)
}

type Writer<W> = SerializedFileWriter<W>;

fn writer<W: Write + Send>(out: W, columns: &str) -> Result<Writer<W>, ParquetError> {
    SerializedFileWriter::new(out, Arc::new(parse_message_type(columns)?), Arc::new(properties()?.build()))
}

fn actors(out: BufWriter<&File>, all: &[ActorRow]) -> Result<(), ParquetError> {
    let mut file = writer(out, ACTORS)?;
    let mut rows = file.next_row_group()?;
    let texts = |of: &dyn Fn(&ActorRow) -> ByteArray| all.iter().map(of).collect::<Vec<_>>();
    required::<_, ByteArrayType>(&mut rows, &texts(&|row| row.state.into()))?;
    required::<_, Int64Type>(&mut rows, &all.iter().map(|row| row.part).collect::<Vec<_>>())?;
    let names: [&dyn Fn(&ActorRow) -> ByteArray; 4] = [
        &|row| row.input.as_str().into(),
        &|row| row.namespace.as_str().into(),
        &|row| row.workload.as_str().into(),
        &|row| row.actor.as_str().into(),
    ];
    for name in names {
        required::<_, ByteArrayType>(&mut rows, &texts(name))?;
    }
    for id in [|row: &ActorRow| row.uid, |row: &ActorRow| row.gid] {
        optional::<_, Int64Type>(&mut rows, all.iter().map(|row| id(row).map(i64::from)).collect())?;
    }
    let places: [&dyn Fn(&ActorRow) -> ByteArray; 4] = [
        &|row| row.volume.as_str().into(),
        &|row| row.date.as_str().into(),
        &|row| text(&row.at).as_ref().into(),
        &|row| text(&row.shows).as_ref().into(),
    ];
    for place in places {
        required::<_, ByteArrayType>(&mut rows, &texts(place))?;
    }
    optional::<_, Int64Type>(&mut rows, all.iter().map(|row| row.view).collect())?;
    let reasons = all.iter().map(|row| row.reason.as_deref().map(ByteArray::from)).collect();
    optional::<_, ByteArrayType>(&mut rows, reasons)?;
    rows.close()?;
    file.close().map(drop)
}

/// A row of the table: the view, what it is about, and how one act ends there.
type Row<'a> = (i64, &'a PairRows, &'a ActRow);

fn verdicts(out: BufWriter<&File>, all: &Verdicts) -> Result<(), ParquetError> {
    let mut file = writer(out, VERDICTS)?;
    let mut waiting: Vec<Row<'_>> = Vec::new();
    for (view, pairs) in &all.views {
        waiting.extend(pairs.iter().flat_map(|pair| pair.acts.iter().map(move |act| (*view, pair, act))));
        if waiting.len() >= GROUP {
            group(&mut file, &std::mem::take(&mut waiting))?;
        }
    }
    group(&mut file, &waiting)?;
    file.close().map(drop)
}

fn group<W: Write + Send>(file: &mut Writer<W>, all: &[Row<'_>]) -> Result<(), ParquetError> {
    let mut rows = file.next_row_group()?;
    let numbers = |of: fn(&Row<'_>) -> i64| all.iter().map(of).collect::<Vec<_>>();
    let texts = |of: fn(&ActRow) -> &'static str| {
        all.iter().map(|(_, _, act)| ByteArray::from(of(act))).collect::<Vec<_>>()
    };
    let gaps = |of: fn(&ActRow) -> Option<&'static str>| {
        all.iter().map(|(_, _, act)| of(act).map(ByteArray::from)).collect::<Vec<_>>()
    };
    required::<_, Int64Type>(&mut rows, &numbers(|(view, ..)| *view))?;
    let regions: Vec<ByteArray> = all.iter().map(|(_, pair, _)| ByteArray::from(&*pair.region)).collect();
    required::<_, ByteArrayType>(&mut rows, &regions)?;
    required::<_, Int64Type>(&mut rows, &numbers(|(_, pair, _)| pair.way))?;
    required::<_, Int64Type>(&mut rows, &numbers(|(_, pair, _)| pair.class))?;
    required::<_, ByteArrayType>(&mut rows, &texts(|act| act.act))?;
    required::<_, ByteArrayType>(&mut rows, &texts(|act| act.outcome))?;
    optional::<_, ByteArrayType>(&mut rows, gaps(|act| act.errno))?;
    optional::<_, ByteArrayType>(&mut rows, gaps(|act| act.check))?;
    optional::<_, Int64Type>(&mut rows, all.iter().map(|(_, pair, _)| pair.barrier).collect())?;
    rows.close().map(drop)
}

fn regions(out: BufWriter<&File>, all: &[RegionRow]) -> Result<(), ParquetError> {
    let mut file = writer(out, REGIONS)?;
    let mut rows = file.next_row_group()?;
    for of in [
        |row: &RegionRow| ByteArray::from(row.volume.as_str()),
        |row: &RegionRow| ByteArray::from(row.date.as_str()),
        |row: &RegionRow| ByteArray::from(&*row.region),
    ] {
        required::<_, ByteArrayType>(&mut rows, &all.iter().map(of).collect::<Vec<_>>())?;
    }
    let around = all.iter().map(|row| row.around.as_deref().map(ByteArray::from)).collect();
    optional::<_, ByteArrayType>(&mut rows, around)?;
    rows.close()?;
    file.close().map(drop)
}
