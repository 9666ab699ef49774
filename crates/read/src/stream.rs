//! A stream of YAML documents or JSON objects, one text at a time, so that memory grows with the largest document.

use std::io::{self, BufRead};

use crate::files::InputError;
use crate::text::SourceText;

/// Largest document that is read, in bytes.
const LARGEST: usize = 256 << 20;

/// Cuts a stream at the lines that begin a document, and at JSON objects that follow one another.
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
        let mut holds_something = has_content(text.strip_prefix(b"---").unwrap_or(&text));
        let mut object = Object::default();
        object.pass(&text);
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
            let next_object = object.closed() && line.starts_with(b"{");
            if (is_separator(line) && holds_something) || next_object {
                self.begun = text.split_off(start);
                break;
            }
            object.pass(line);
            holds_something |=
                has_content(line.strip_prefix(b"---").unwrap_or(line)) && !line.starts_with(b"%");
        }
        self.decoded(&text, first_line).map(Some)
    }

    fn decoded(&self, bytes: &[u8], first_line: usize) -> Result<SourceText, InputError> {
        if first_line == 1 && is_utf16(bytes) {
            return Err(InputError::Utf16 { name: self.name.clone() });
        }
        match std::str::from_utf8(bytes) {
            Ok(text) => {
                let text = if first_line == 1 { text.strip_prefix('\u{feff}').unwrap_or(text) } else { text };
                Ok(SourceText::starting_at(&self.name, text, first_line))
            }
            Err(error) => {
                let offset = error.valid_up_to();
                let line = first_line - 1 + bytes[..offset].split(|byte| *byte == b'\n').count();
                let start = bytes[..offset].iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
                let column = String::from_utf8_lossy(&bytes[start..offset]).chars().count() + 1;
                Err(InputError::Encoding { name: self.name.clone(), line, column, offset })
            }
        }
    }

    fn failed(&self, error: io::Error) -> InputError {
        InputError::Io { name: self.name.clone(), error }
    }
}

/// Where a JSON object ends, so that another may begin on the next line without `---` (RFC 8259, one text after the other).
#[derive(Default)]
struct Object {
    begun: bool,
    depth: usize,
    in_string: bool,
    escaped: bool,
}

impl Object {
    /// One more line of the text. A text that does not begin as an object never has one that ends.
    fn pass(&mut self, line: &[u8]) {
        if self.depth == usize::MAX {
            return;
        }
        for byte in line {
            match (self.in_string, byte) {
                (true, _) if self.escaped => self.escaped = false,
                (true, b'\\') => self.escaped = true,
                (true, b'"') => self.in_string = false,
                (true, _) => {}
                (false, byte) if byte.is_ascii_whitespace() => {}
                (false, b'{') if !self.begun || self.depth > 0 => {
                    self.begun = true;
                    self.depth += 1;
                }
                (false, _) if self.depth == 0 => {
                    // Text outside of an object: this is no JSON.
                    *self = Self { begun: true, depth: usize::MAX, ..Self::default() };
                    return;
                }
                (false, b'}') => self.depth -= 1,
                (false, b'"') => self.in_string = true,
                (false, _) => {}
            }
        }
    }

    fn closed(&self) -> bool {
        self.begun && self.depth == 0
    }
}

/// Text in UTF-16: its mark, or a first character of ASCII whose other byte is 0.
fn is_utf16(bytes: &[u8]) -> bool {
    match bytes {
        [0xff, 0xfe, ..] | [0xfe, 0xff, ..] => true,
        [0, other, ..] | [other, 0, ..] => other.is_ascii() && *other != 0,
        _ => false,
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

    #[test]
    fn json_objects_follow_one_another() {
        let seen = |text: &'static str| {
            let mut stream = Stream::new("x".to_owned(), Box::new(text.as_bytes()));
            std::iter::from_fn(|| stream.next().unwrap())
                .map(|source| source.text.to_string())
                .collect::<Vec<_>>()
        };
        let plain = "{\n  \"a\": {\"b\": \"}\\\"{\"}\n}\n{\"c\": [\n{\n}]}\n\n{\n}\n---\n{}\n";
        assert_eq!(
            seen(plain),
            ["{\n  \"a\": {\"b\": \"}\\\"{\"}\n}\n", "{\"c\": [\n{\n}]}\n\n", "{\n}\n", "---\n{}\n"]
        );
        assert_eq!(seen("[\n{}\n{}\n]\n"), ["[\n{}\n{}\n]\n"]);
        assert_eq!(seen("a: |\n  {}\n{}\n"), ["a: |\n  {}\n{}\n"]);
        assert_eq!(seen("{}}\n{}\n"), ["{}}\n{}\n"]);
    }
}
