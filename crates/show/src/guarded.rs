//! The last writer before a terminal, a file or a CI: nothing that is obeyed there gets past it.

use std::io::{self, Write};

use mivask_core::glyph::is_obeyed;

use crate::safe::escape;

/// Bytes that one colour code takes at most.
const LONGEST_CODE: usize = 24;

/// What becomes of colours.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Colour {
    /// They are passed on.
    Kept,
    /// They are left out.
    Stripped,
}

/// Passes text on with every character escaped that a terminal, a page or a CI would obey, line ends, tabs and colours apart.
///
/// Whoever writes text escapes what comes from outside, since only there is known how wide it becomes. That no one forgets it is
/// this writer's task: the program has no other way to its outputs for text.
#[derive(Debug)]
pub struct Guarded<W: Write> {
    out: W,
    colour: Colour,
    /// The beginning of a character or of a colour code whose end was not written yet.
    begun: Vec<u8>,
}

impl<W: Write> Guarded<W> {
    /// Guards `out`.
    pub const fn new(out: W, colour: Colour) -> Self {
        Self { out, colour, begun: Vec::new() }
    }

    /// Passes on `bytes` as far as they are whole, and gives how many that were; all of them where nothing follows.
    fn pass(&mut self, bytes: &[u8], more_may_follow: bool) -> io::Result<usize> {
        let mut passed = 0;
        while passed < bytes.len() {
            let left = &bytes[passed..];
            let plain = left.iter().position(|byte| *byte != b'\n' && !(0x20..0x7f).contains(byte));
            let plain = plain.unwrap_or(left.len());
            self.out.write_all(&left[..plain])?;
            passed += plain;
            match next(&left[plain..]) {
                Next::Nothing => break,
                Next::Begun if more_may_follow => break,
                Next::Begun => {
                    self.out.write_all(&escaped_byte(left[plain]))?;
                    passed += 1;
                }
                Next::Code(length) => {
                    if self.colour == Colour::Kept {
                        self.out.write_all(&left[plain..plain + length])?;
                    }
                    passed += length;
                }
                Next::Char(c) => {
                    let mut text = String::new();
                    if is_obeyed(c) && c != '\t' {
                        escape(c, &mut text)
                    } else {
                        text.push(c)
                    }
                    self.out.write_all(text.as_bytes())?;
                    passed += c.len_utf8();
                }
                Next::NoText => {
                    self.out.write_all(&escaped_byte(left[plain]))?;
                    passed += 1;
                }
            }
        }
        Ok(passed)
    }

    /// What was begun and never ended is escaped, too.
    fn end(&mut self) -> io::Result<()> {
        let begun = std::mem::take(&mut self.begun);
        self.pass(&begun, false).map(drop)
    }
}

impl<W: Write> Write for Guarded<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.begun.is_empty() {
            let passed = self.pass(bytes, true)?;
            self.begun.extend_from_slice(&bytes[passed..]);
            return Ok(bytes.len());
        }
        let mut all = std::mem::take(&mut self.begun);
        all.extend_from_slice(bytes);
        let passed = self.pass(&all, true)?;
        self.begun = all.split_off(passed);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.end()?;
        self.out.flush()
    }
}

impl<W: Write> Drop for Guarded<W> {
    fn drop(&mut self) {
        // Whoever needs to know whether all was written flushes first.
        let _ = self.end();
    }
}

/// What text begins with.
enum Next {
    /// It is empty.
    Nothing,
    /// A part of a character or of a colour code.
    Begun,
    /// A colour code of that many bytes.
    Code(usize),
    /// A character.
    Char(char),
    /// A byte that is not of a character.
    NoText,
}

fn next(bytes: &[u8]) -> Next {
    let Some(first) = bytes.first() else { return Next::Nothing };
    if *first == 0x1b {
        return code(bytes);
    }
    let length = bytes.len().min(4);
    match std::str::from_utf8(&bytes[..length]) {
        Ok(text) => text.chars().next().map_or(Next::Nothing, Next::Char),
        Err(error) if error.valid_up_to() > 0 => {
            let text = std::str::from_utf8(&bytes[..error.valid_up_to()]).unwrap_or_default();
            text.chars().next().map_or(Next::NoText, Next::Char)
        }
        Err(error) if error.error_len().is_none() => Next::Begun,
        Err(_) => Next::NoText,
    }
}

/// A colour code (ECMA-48, SGR) that sets colours, bold, faint, italic or underline, or takes them back: no other hides or moves
/// anything.
fn code(bytes: &[u8]) -> Next {
    let escape = Next::Char('\u{1b}');
    let Some((opening, rest)) = bytes.split_at_checked(2) else { return Next::Begun };
    if opening != b"\x1b[" {
        return escape;
    }
    let Some(end) = rest.iter().position(|byte| !matches!(byte, b'0'..=b'9' | b';')) else {
        return if rest.len() < LONGEST_CODE { Next::Begun } else { escape };
    };
    let harmless = |number: &[u8]| match std::str::from_utf8(number).ok().and_then(|text| text.parse().ok()) {
        Some(number) => matches!(number, 0u8..=4 | 22..=24 | 30..=37 | 39..=47 | 49 | 90..=97),
        None => number.is_empty(),
    };
    if rest[end] == b'm' && end < LONGEST_CODE && rest[..end].split(|byte| *byte == b';').all(harmless) {
        Next::Code(2 + end + 1)
    } else {
        escape
    }
}

fn escaped_byte(byte: u8) -> Vec<u8> {
    format!("\\x{byte:02x}").into_bytes()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn guarded(pieces: &[&[u8]], colour: Colour) -> String {
        let mut out = Vec::new();
        let mut guarded = Guarded::new(&mut out, colour);
        pieces.iter().for_each(|piece| guarded.write_all(piece).expect("memory"));
        drop(guarded);
        String::from_utf8(out).expect("text")
    }

    macro_rules! passes {
        ($($name:ident: $given:expr => $kept:literal, $stripped:literal;)+) => {$(
            #[test]
            fn $name() {
                let given: &[u8] = $given;
                assert_eq!(guarded(&[given], Colour::Kept), $kept);
                assert_eq!(guarded(&[given], Colour::Stripped), $stripped);
                // However it is cut into pieces.
                let bytes: Vec<&[u8]> = given.chunks(1).collect();
                assert_eq!(guarded(&bytes, Colour::Kept), $kept);
                assert_eq!(guarded(&bytes, Colour::Stripped), $stripped);
            }
        )+};
    }

    passes! {
        text: "größe 水\t\n".as_bytes() => "größe 水\t\n", "größe 水\t\n";
        colours: b"\x1b[1m\x1b[31ma\x1b[0m \x1b[38mb" => "\x1b[1m\x1b[31ma\x1b[0m \\u{1b}[38mb", "a \\u{1b}[38mb";
        hidden_text: b"a\x1b[8mb" => "a\\u{1b}[8mb", "a\\u{1b}[8mb";
        a_moved_cursor: b"a\x1b[2J\x1b]0;x\x07\r" => "a\\u{1b}[2J\\u{1b}]0;x\\u{7}\\u{d}", "a\\u{1b}[2J\\u{1b}]0;x\\u{7}\\u{d}";
        reordered: "a\u{202e}b\u{9b}1m".as_bytes() => "a\\u{202e}b\\u{9b}1m", "a\\u{202e}b\\u{9b}1m";
        bytes_of_no_text: b"a\xffb\xe6\xb0" => "a\\xffb\\xe6\\xb0", "a\\xffb\\xe6\\xb0";
        an_unfinished_code: b"a\x1b[1" => "a\\x1b[1", "a\\x1b[1";
        a_long_code: b"\x1b[0;0;0;0;0;0;0;0;0;0;0;0;0;0m" => "\\u{1b}[0;0;0;0;0;0;0;0;0;0;0;0;0;0m", "\\u{1b}[0;0;0;0;0;0;0;0;0;0;0;0;0;0m";
    }
}
