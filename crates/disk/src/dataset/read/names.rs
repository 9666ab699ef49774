//! The rows of a volume, a group at a time, of which only the columns that are asked for are read.

use std::fs::File;
use std::path::Path;

use parquet::column::reader::{ColumnReader, ColumnReaderImpl};
use parquet::data_type::{ByteArray, DataType};
use parquet::errors::ParquetError;
use parquet::file::reader::{FileReader, RowGroupReader, SerializedFileReader};

use crate::dataset::digest;

/// The rows of one file.
pub(super) struct Names {
    reader: SerializedFileReader<File>,
}

/// Rows that were written together.
pub(super) struct Group<'r> {
    reader: Box<dyn RowGroupReader + 'r>,
    pub(super) rows: usize,
}

impl Names {
    pub(super) fn open(path: &Path) -> Result<Self, ParquetError> {
        let mut file = File::open(path)?;
        digest::check(&mut file).map_err(|error| ParquetError::General(error.to_string()))?;
        Ok(Self { reader: SerializedFileReader::new(file)? })
    }

    /// What the file says of itself by this name.
    pub(super) fn said(&self, key: &str) -> Option<&str> {
        let all = self.reader.metadata().file_metadata().key_value_metadata()?;
        all.iter().find(|one| one.key == key)?.value.as_deref()
    }

    /// How many rows there are.
    pub(super) fn count(&self) -> usize {
        usize::try_from(self.reader.metadata().file_metadata().num_rows()).unwrap_or(0)
    }

    pub(super) fn groups(&self) -> impl Iterator<Item = Result<Group<'_>, ParquetError>> {
        (0..self.reader.num_row_groups()).map(|number| {
            let reader = self.reader.get_row_group(number)?;
            let rows = usize::try_from(reader.metadata().num_rows()).unwrap_or(0);
            Ok(Group { reader, rows })
        })
    }
}

impl Group<'_> {
    fn column(&self, name: &str) -> Result<ColumnReader, ParquetError> {
        let schema = self.reader.metadata().schema_descr_ptr();
        let at = (0..schema.num_columns()).find(|at| schema.column(*at).name() == name);
        let at = at.ok_or_else(|| ParquetError::General(format!("there is no column {name}")))?;
        self.reader.get_column_reader(at)
    }

    fn other_type(name: &str) -> ParquetError {
        ParquetError::General(format!("column {name} is of another type"))
    }

    /// A column of numbers without gaps.
    pub(super) fn numbers(&self, name: &str) -> Result<Vec<i64>, ParquetError> {
        let ColumnReader::Int64ColumnReader(reader) = self.column(name)? else {
            return Err(Self::other_type(name));
        };
        Ok(read(reader, self.rows)?.0)
    }

    /// A column of texts without gaps.
    pub(super) fn texts(&self, name: &str) -> Result<Vec<ByteArray>, ParquetError> {
        let ColumnReader::ByteArrayColumnReader(reader) = self.column(name)? else {
            return Err(Self::other_type(name));
        };
        Ok(read(reader, self.rows)?.0)
    }

    /// A column of numbers, with gaps.
    pub(super) fn some_numbers(&self, name: &str) -> Result<Vec<Option<i64>>, ParquetError> {
        let ColumnReader::Int64ColumnReader(reader) = self.column(name)? else {
            return Err(Self::other_type(name));
        };
        Ok(spread(read(reader, self.rows)?))
    }

    /// A column of texts, with gaps.
    pub(super) fn some_texts(&self, name: &str) -> Result<Vec<Option<ByteArray>>, ParquetError> {
        let ColumnReader::ByteArrayColumnReader(reader) = self.column(name)? else {
            return Err(Self::other_type(name));
        };
        Ok(spread(read(reader, self.rows)?))
    }
}

/// The values of a column, and of each row whether it has one; no levels where all have.
type Values<T> = (Vec<T>, Vec<i16>);

fn read<D: DataType>(mut reader: ColumnReaderImpl<D>, rows: usize) -> Result<Values<D::T>, ParquetError> {
    let (mut values, mut levels) = (Vec::new(), Vec::new());
    let mut done = 0;
    while done < rows {
        let (records, _, _) = reader.read_records(rows - done, Some(&mut levels), None, &mut values)?;
        if records == 0 {
            return Err(ParquetError::General("a column ends too early".to_owned()));
        }
        done += records;
    }
    Ok((values, levels))
}

fn spread<T>((values, levels): Values<T>) -> Vec<Option<T>> {
    let mut values = values.into_iter();
    levels.into_iter().map(|level| if level == 0 { None } else { values.next() }).collect()
}

/// The path of a row in words of the dataset.
pub(super) fn path(directory: &str, name: &str) -> String {
    match (directory, name) {
        (directory, "") => directory.to_owned(),
        ("/", name) => format!("/{name}"),
        (directory, name) => format!("{directory}/{name}"),
    }
}

/// A text of a column; what is no UTF-8 was not written by us.
pub(super) fn text(bytes: &ByteArray) -> Result<&str, ParquetError> {
    std::str::from_utf8(bytes.data()).map_err(|error| ParquetError::General(error.to_string()))
}
