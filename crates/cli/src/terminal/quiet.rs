//! Standard error without messages of some levels.

use std::io::{self, Write};

/// How a message begins that is no error.
const BESIDES: [&str; 4] = ["warning", "note", "watching ", "--- "];

/// Leaves out messages that begin with one of a few words, coloured or not. A message begins with its level at the start of
/// a line and goes on until the next one does.
pub(crate) struct Quiet<W> {
    out: W,
    left_out: &'static [&'static str],
    line: Vec<u8>,
    shown: bool,
}

impl<W: Write> Quiet<W> {
    /// Passes on errors alone.
    pub(crate) const fn new(out: W) -> Self {
        Self { out, left_out: &BESIDES, line: Vec::new(), shown: true }
    }

    /// Passes on everything but warnings.
    pub(crate) const fn without_warnings(out: W) -> Self {
        Self { out, left_out: &["warning"], line: Vec::new(), shown: true }
    }

    fn end_line(&mut self) -> io::Result<()> {
        let line = std::mem::take(&mut self.line);
        let text = anstream::adapter::strip_bytes(&line).into_vec();
        let begins = |words: &[&str]| words.iter().any(|word| text.starts_with(word.as_bytes()));
        if begins(self.left_out) {
            self.shown = false;
        } else if begins(&["error"]) || begins(&BESIDES) {
            self.shown = true;
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

    #[test]
    fn everything_but_warnings_comes_through() {
        let mut out = Vec::new();
        let mut quiet = Quiet::without_warnings(&mut out);
        quiet
            .write_all(b"\x1b[33mwarning\x1b[0m: a\n --> x\nnote: b\n\x1b[31merror\x1b[0m: c\n --> y\n")
            .expect("memory");
        assert_eq!(out, b"note: b\n\x1b[31merror\x1b[0m: c\n --> y\n");
    }
}
