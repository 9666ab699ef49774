//! Columns of Parquet files.

use std::io::Write;

use parquet::data_type::DataType;
use parquet::errors::ParquetError;
use parquet::file::writer::SerializedRowGroupWriter;

/// One column with the gaps in it.
#[derive(Default)]
pub(crate) struct Column<T> {
    values: Vec<T>,
    levels: Vec<i16>,
}

impl<T> Column<T> {
    /// Adds the value of a row, or a gap.
    pub(crate) fn push(&mut self, value: Option<T>) {
        self.levels.push(i16::from(value.is_some()));
        self.values.extend(value);
    }

    /// Writes it.
    pub(crate) fn write<W: Write + Send, D>(
        &self,
        rows: &mut SerializedRowGroupWriter<'_, W>,
    ) -> Result<(), ParquetError>
    where
        D: DataType<T = T>,
    {
        if let Some(mut column) = rows.next_column()? {
            column.typed::<D>().write_batch(&self.values, Some(&self.levels), None)?;
            column.close()?;
        }
        Ok(())
    }
}

/// A column without gaps.
pub(crate) fn required<W: Write + Send, D: DataType>(
    rows: &mut SerializedRowGroupWriter<'_, W>,
    values: &[D::T],
) -> Result<(), ParquetError> {
    if let Some(mut column) = rows.next_column()? {
        column.typed::<D>().write_batch(values, None, None)?;
        column.close()?;
    }
    Ok(())
}

/// A column with gaps.
pub(crate) fn optional<W: Write + Send, D: DataType>(
    rows: &mut SerializedRowGroupWriter<'_, W>,
    values: Vec<Option<D::T>>,
) -> Result<(), ParquetError> {
    let mut column = Column::default();
    values.into_iter().for_each(|value| column.push(value));
    column.write::<W, D>(rows)
}
