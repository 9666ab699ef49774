//! Columns of numbers and bytes: what is alike is kept together, which packs well.

/// The columns of a frame of directories, in their order.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Column {
    /// For each directory in turn: twice the number of entries that follow, plus 1 if more come in the next frame.
    Counts,
    /// For each entry: 0 for a further name of an inode, else 1 + its class.
    Classes,
    /// Classes that occur for the first time.
    NewClasses,
    /// Sets of extended attributes that occur for the first time.
    NewExtended,
    /// Interpreters that occur for the first time.
    NewScripts,
    /// For each entry: how many bytes its name shares with the one before in the same directory.
    Shared,
    /// For each entry: how many bytes follow.
    Lengths,
    /// Those bytes.
    Names,
    /// For each link: how long its target is, and the target.
    Targets,
    /// For each further name: the number of the inode.
    Links,
    /// For each regular file: 1 + its size, or 0 where it is not given.
    Sizes,
    /// What is not certain about single inodes.
    Doubts,
}

/// How many columns there are.
pub(super) const COUNT: usize = 12;

/// Columns being written.
#[derive(Default)]
pub(super) struct Writer {
    columns: [Vec<u8>; COUNT],
}

impl Writer {
    pub(super) fn number(&mut self, column: Column, number: u64) {
        push(&mut self.columns[column as usize], number);
    }

    pub(super) fn byte(&mut self, column: Column, byte: u8) {
        self.columns[column as usize].push(byte);
    }

    pub(super) fn bytes(&mut self, column: Column, bytes: &[u8]) {
        self.columns[column as usize].extend_from_slice(bytes);
    }

    /// Bytes behind their number.
    pub(super) fn sized(&mut self, column: Column, bytes: &[u8]) {
        self.number(column, bytes.len() as u64);
        self.bytes(column, bytes);
    }

    /// What is in a column.
    pub(super) fn column(&self, column: Column) -> &[u8] {
        &self.columns[column as usize]
    }

    pub(super) fn len(&self) -> usize {
        self.columns.iter().map(Vec::len).sum()
    }

    /// Every column behind its length; the columns are empty afterwards.
    pub(super) fn take(&mut self) -> Vec<u8> {
        let mut all = Vec::with_capacity(self.len() + COUNT * 4);
        for column in &mut self.columns {
            push(&mut all, column.len() as u64);
            all.append(column);
        }
        all
    }
}

fn push(column: &mut Vec<u8>, mut number: u64) {
    while number >= 0x80 {
        column.push((number & 0x7f) as u8 | 0x80);
        number >>= 7;
    }
    column.push((number & 0x7f) as u8);
}

/// Columns being read.
pub(super) struct Reader<'a> {
    columns: [&'a [u8]; COUNT],
}

/// A column ends too early, or a number in it is not a number.
#[derive(Clone, Copy, Debug)]
pub(super) struct Short;

impl<'a> Reader<'a> {
    pub(super) fn new(mut raw: &'a [u8]) -> Result<Self, Short> {
        let mut columns = [&[][..]; COUNT];
        for column in &mut columns {
            let length = usize::try_from(number(&mut raw)?).map_err(|_| Short)?;
            (*column, raw) = raw.split_at_checked(length).ok_or(Short)?;
        }
        if raw.is_empty() { Ok(Self { columns }) } else { Err(Short) }
    }

    pub(super) fn has(&self, column: Column) -> bool {
        !self.columns[column as usize].is_empty()
    }

    pub(super) fn number(&mut self, column: Column) -> Result<u64, Short> {
        number(&mut self.columns[column as usize])
    }

    pub(super) fn word(&mut self, column: Column) -> Result<u32, Short> {
        u32::try_from(self.number(column)?).map_err(|_| Short)
    }

    pub(super) fn byte(&mut self, column: Column) -> Result<u8, Short> {
        let bytes = &mut self.columns[column as usize];
        let (first, rest) = bytes.split_first().ok_or(Short)?;
        *bytes = rest;
        Ok(*first)
    }

    pub(super) fn bytes(&mut self, column: Column, length: usize) -> Result<&'a [u8], Short> {
        let bytes = &mut self.columns[column as usize];
        let (first, rest) = bytes.split_at_checked(length).ok_or(Short)?;
        *bytes = rest;
        Ok(first)
    }

    pub(super) fn sized(&mut self, column: Column) -> Result<&'a [u8], Short> {
        let length = usize::try_from(self.number(column)?).map_err(|_| Short)?;
        self.bytes(column, length)
    }
}

fn number(bytes: &mut &[u8]) -> Result<u64, Short> {
    let mut value = 0_u64;
    for shift in (0..64).step_by(7) {
        let (first, rest) = bytes.split_first().ok_or(Short)?;
        *bytes = rest;
        value |= u64::from(first & 0x7f) << shift;
        if first & 0x80 == 0 {
            return Ok(value);
        }
    }
    Err(Short)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_and_bytes_survive_their_columns() {
        let mut writer = Writer::default();
        for value in [0, 1, 127, 128, 300, u64::from(u32::MAX), u64::MAX] {
            writer.number(Column::Sizes, value);
        }
        writer.sized(Column::Targets, b"../a");
        let raw = writer.take();
        let mut reader = Reader::new(&raw).unwrap();
        for value in [0, 1, 127, 128, 300, u64::from(u32::MAX), u64::MAX] {
            assert_eq!(reader.number(Column::Sizes).unwrap(), value);
        }
        assert_eq!(reader.sized(Column::Targets).unwrap(), b"../a");
        assert!(!reader.has(Column::Targets) && reader.byte(Column::Names).is_err());
        assert!(Reader::new(&raw[..raw.len() - 1]).is_err());
    }
}
