//! A stream of YAML documents, one text at a time, so that memory grows with the largest document.

use std::io::{self, BufRead};

use crate::files::InputError;
use crate::text::SourceText;

/// Largest document that is read, in bytes.
const LARGEST: usize = 256 << 20;

/// Cuts a stream at the lines that begin a document.
pub(crate) struct Stream {
    name: String,
    lines: Box<dyn BufRead>,
    /// The line that began the next document.
    begun: Vec<u8>,
    /// Lines read, the begun one included.
    read: usize,
    done: bool,
}

impl Stream {
    pub(crate) fn new(name: String, lines: Box<dyn BufRead>) -> Self {
        Self { name, lines, begun: Vec::new(), read: 0, done: false }
    }

    /// The text up to the next line `---`, with the number of its first line; `None` behind the last.
    pub(crate) fn next(&mut self) -> Result<Option<SourceText>, InputError> {
        if self.done {
            return Ok(None);
        }
        let mut text = std::mem::take(&mut self.begun);
        let first_line = if text.is_empty() { self.read + 1 } else { self.read };
        let mut holds_something = !text.is_empty() && has_content(&text[3..]);
        loop {
            let start = text.len();
            let got = self.lines.read_until(b'\n', &mut text).map_err(|error| self.failed(error))?;
            if got == 0 {
                self.done = true;
                break;
            }
            self.read += 1;
            if text.len() > LARGEST {
                return Err(InputError::Size { name: self.name.clone(), size: text.len() });
            }
            let line = &text[start..];
            if is_separator(line) && holds_something {
                self.begun = text.split_off(start);
                break;
            }
            holds_something |=
                has_content(line.strip_prefix(b"---").unwrap_or(line)) && !line.starts_with(b"%");
        }
        self.decoded(&text, first_line).map(Some)
    }

    fn decoded(&self, bytes: &[u8], first_line: usize) -> Result<SourceText, InputError> {
        match std::str::from_utf8(bytes) {
            Ok(text) => {
                let text = if first_line == 1 { text.strip_prefix('\u{feff}').unwrap_or(text) } else { text };
                Ok(SourceText::starting_at(&self.name, text, first_line))
            }
            Err(error) => {
                let offset = error.valid_up_to();
                let line = first_line - 1 + bytes[..offset].split(|byte| *byte == b'\n').count();
                Err(InputError::Encoding { name: self.name.clone(), line, offset })
            }
        }
    }

    fn failed(&self, error: io::Error) -> InputError {
        InputError::Io { name: self.name.clone(), error }
    }
}

/// `---` alone or before a blank: text of a block scalar is always indented, so it cannot be one.
fn is_separator(line: &[u8]) -> bool {
    line.strip_prefix(b"---").is_some_and(|rest| rest.first().is_none_or(u8::is_ascii_whitespace))
}

/// Whether a line is more than blanks and a comment.
fn has_content(line: &[u8]) -> bool {
    let first = line.iter().find(|byte| !byte.is_ascii_whitespace());
    first.is_some_and(|byte| *byte != b'#')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn documents_come_one_by_one_with_their_lines() {
        let text = "# head\n%YAML 1.2\n---\na: 1\nb: |\n  ---\n--- # second\nc: 2\n---\n---\nd: 3\n";
        let mut stream = Stream::new("x".to_owned(), Box::new(text.as_bytes()));
        let mut seen = Vec::new();
        while let Some(source) = stream.next().unwrap() {
            seen.push((source.line_column(0).0, source.text.to_string()));
        }
        let expected = [
            (1, "# head\n%YAML 1.2\n---\na: 1\nb: |\n  ---\n"),
            (7, "--- # second\nc: 2\n"),
            (9, "---\n---\nd: 3\n"),
        ];
        assert_eq!(seen, expected.map(|(line, text)| (line, text.to_owned())));
    }
}
