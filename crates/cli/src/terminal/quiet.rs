//! Standard error without warnings and notes: errors alone.

use std::io::{self, Write};

/// Passes on only messages that are errors. A message begins with its level at the start of a line and goes on until the
/// next one does.
pub(crate) struct Quiet<W> {
    out: W,
    line: Vec<u8>,
    shown: bool,
}

impl<W: Write> Quiet<W> {
    pub(crate) const fn new(out: W) -> Self {
        Self { out, line: Vec::new(), shown: true }
    }

    fn end_line(&mut self) -> io::Result<()> {
        let line = std::mem::take(&mut self.line);
        let text = anstream::adapter::strip_bytes(&line).into_vec();
        let begins = |words: &[&str]| words.iter().any(|word| text.starts_with(word.as_bytes()));
        if begins(&["error"]) {
            self.shown = true;
        } else if begins(&["warning", "note", "watching ", "--- "]) {
            self.shown = false;
        }
        if self.shown { self.out.write_all(&line) } else { Ok(()) }
    }
}

impl<W: Write> Write for Quiet<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        for piece in bytes.split_inclusive(|byte| *byte == b'\n') {
            self.line.extend_from_slice(piece);
            if piece.ends_with(b"\n") {
                self.end_line()?;
            }
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_errors_come_through_with_all_their_lines() {
        let mut out = Vec::new();
        let mut quiet = Quiet::new(&mut out);
        quiet.write_all(b"\x1b[33mwarning\x1b[0m: a\n --> x\n  = help: b\n\n\x1b[31merr").expect("memory");
        quiet.write_all(b"or\x1b[0m: c\n --> y\n").expect("memory");
        quiet.write_all(b"note: d\n  e\nerror: f\n").expect("memory");
        assert_eq!(out, b"\x1b[31merror\x1b[0m: c\n --> y\nerror: f\n");
    }
}
