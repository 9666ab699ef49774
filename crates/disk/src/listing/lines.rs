//! Lines of any bytes, of bounded length, with their numbers.

use std::io::{BufRead, Read};

use crate::error::{At, DiskError};

/// No line of a listing is longer: a path has 4,096 bytes, an escape four for each.
const LONGEST: u64 = 1 << 17;
/// How much of a line is shown with a mistake.
const SHOWN: usize = 160;

pub(crate) struct Lines<'i> {
    /// The listing as the user named it.
    pub name: &'i str,
    input: &'i mut dyn BufRead,
    end: u8,
    /// The number of the last line, from 1.
    pub number: usize,
    text: Vec<u8>,
}

impl<'i> Lines<'i> {
    pub(crate) fn new(name: &'i str, input: &'i mut dyn BufRead) -> Self {
        Self { name, input, end: b'\n', number: 0, text: Vec::new() }
    }

    /// Lines end with a NUL byte from here on.
    pub(super) fn end_with_nul(&mut self) {
        self.end = 0;
    }

    /// Whether the bytes ahead hold a NUL byte.
    pub(super) fn is_nul_ahead(&mut self) -> Result<bool, DiskError> {
        let ahead = self.input.fill_buf().map_err(|error| DiskError::io(self.name, &error))?;
        Ok(ahead.contains(&0))
    }

    /// The next line, without its end. One that was typed at a prompt is no part of a listing.
    pub(crate) fn next(&mut self) -> Result<Option<&[u8]>, DiskError> {
        while self.read()? {
            if !(self.end == b'\n' && is_typed(&self.text)) {
                return Ok(Some(&self.text));
            }
        }
        Ok(None)
    }

    /// Reads a line; whether there was one.
    fn read(&mut self) -> Result<bool, DiskError> {
        self.text.clear();
        let input = &mut *self.input;
        let read = input.take(LONGEST).read_until(self.end, &mut self.text);
        let got = read.map_err(|error| DiskError::io(self.name, &error))?;
        if got == 0 {
            return Ok(false);
        }
        self.number += 1;
        if self.text.last() == Some(&self.end) {
            self.text.pop();
        } else if got as u64 == LONGEST {
            return Err(self.wrong(0, "a line of more than 128 KiB", None));
        }
        if self.end == b'\n' && self.text.last() == Some(&b'\r') {
            self.text.pop();
        }
        Ok(true)
    }

    /// What is wrong at byte `at` of the last line.
    pub(crate) fn wrong(&self, at: usize, message: impl Into<String>, help: Option<&str>) -> DiskError {
        let start = at.saturating_sub(SHOWN / 2).min(self.text.len());
        let end = (start + SHOWN).min(self.text.len());
        let before = String::from_utf8_lossy(&self.text[start..at.min(self.text.len())]).chars().count();
        DiskError {
            source: self.name.to_owned(),
            at: At::Line {
                line: self.number,
                column: before + 1,
                text: String::from_utf8_lossy(&self.text[start..end]).into_owned(),
            },
            message: message.into(),
            help: help.map(ToOwned::to_owned),
        }
    }

    /// The last line.
    pub(super) fn text(&self) -> &[u8] {
        &self.text
    }
}

/// What listings are made with.
const COMMANDS: [&[u8]; 9] =
    [b"ls", b"ll", b"find", b"stat", b"getfacl", b"mtree", b"bsdtar", b"sudo", b"doas"];

/// Whether a line is a prompt and a command behind it, as people paste it along: `$ ls -lan`, `ada@press:~# find /srv`.
pub(super) fn is_typed(line: &[u8]) -> bool {
    let mark = |pair: &[u8]| matches!(pair[0], b'$' | b'#' | b'%' | b'>') && pair[1] == b' ';
    let Some(at) = line.windows(2).position(mark) else { return false };
    let words = |part: &[u8]| part.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty()).count();
    let first = line[at + 2..].trim_ascii_start().split(u8::is_ascii_whitespace).next().unwrap_or_default();
    // An entry of a listing has more in front of a name that looks like this.
    words(&line[..at]) <= 2 && COMMANDS.contains(&first)
}

#[cfg(test)]
mod tests {
    use super::is_typed;

    #[test]
    fn what_was_typed_is_told_from_what_was_printed() {
        for typed in [
            "$ ls -lanR /srv",
            "# find /srv -printf '%m'",
            "ada@press:~$ ls",
            "[ada@press srv]# sudo getfacl -Rn .",
            "% stat x",
        ] {
            assert!(is_typed(typed.as_bytes()), "{typed}");
        }
        for printed in [
            "# file: srv",
            "#mtree",
            "-rw-r--r-- 1 0 0 1 Nov  2 10:00 $ ls x",
            "total 8",
            "# owner: 0",
            "755 0 0 d /$ ls",
            "",
        ] {
            assert!(!is_typed(printed.as_bytes()), "{printed}");
        }
    }
}
