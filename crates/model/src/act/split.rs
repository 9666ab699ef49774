//! Splitting a sentence into words.

use std::ops::Range;

use super::{ActError, ActErrorKind};

/// A word with its bytes, escapes resolved, and the place it is at.
#[derive(Debug)]
pub struct Word {
    /// Its bytes.
    pub text: Vec<u8>,
    /// The bytes of the sentence it is at.
    pub span: Range<usize>,
}

impl Word {
    /// Its text, what is not UTF-8 replaced.
    #[must_use]
    pub fn as_text(&self) -> String {
        String::from_utf8_lossy(&self.text).into_owned()
    }

    /// A mistake in it.
    pub fn error(&self, kind: impl FnOnce(String) -> ActErrorKind) -> ActError {
        ActError { span: self.span.clone(), kind: kind(self.as_text()) }
    }
}

/// Splits at blanks; double quotes hold a word together, `#` at a word's start begins a comment.
///
/// # Errors
/// A quote that is never closed, or an invalid escape.
pub fn split(text: &str) -> Result<Vec<Word>, ActError> {
    let bytes = text.as_bytes();
    let mut words = Vec::new();
    let mut at = 0;
    while at < bytes.len() {
        match bytes[at] {
            byte if byte.is_ascii_whitespace() => at += 1,
            b'#' => break,
            b'"' => {
                let word = quoted_word(text, at)?;
                at = word.span.end;
                words.push(word);
            }
            _ => {
                let length = bytes[at..].iter().position(u8::is_ascii_whitespace).unwrap_or(bytes.len() - at);
                words.push(Word { text: bytes[at..at + length].to_vec(), span: at..at + length });
                at += length;
            }
        }
    }
    Ok(words)
}

fn quoted_word(whole: &str, start: usize) -> Result<Word, ActError> {
    let bytes = whole.as_bytes();
    let mut text = Vec::new();
    let mut at = start + 1;
    // The backslash and the character behind it, however many bytes that has.
    let escape = |at: usize| {
        let behind = whole.get(at + 1..).and_then(|rest| rest.chars().next()).map_or(0, char::len_utf8);
        ActError { span: at..at + 1 + behind, kind: ActErrorKind::Escape }
    };
    while let Some(byte) = bytes.get(at) {
        match (byte, bytes.get(at + 1)) {
            (b'"', _) => {
                return Ok(Word { text, span: start..at + 1 });
            }
            (b'\\', Some(b'x')) => {
                let digits = bytes.get(at + 2..at + 4).and_then(|digits| std::str::from_utf8(digits).ok());
                let byte = digits.and_then(|digits| u8::from_str_radix(digits, 16).ok());
                text.push(byte.ok_or_else(|| escape(at))?);
                at += 4;
            }
            (b'\\', Some(next @ (b'\\' | b'"'))) => {
                text.push(*next);
                at += 2;
            }
            (b'\\', _) => return Err(escape(at)),
            (byte, _) => {
                text.push(*byte);
                at += 1;
            }
        }
    }
    Err(ActError { span: start..bytes.len(), kind: ActErrorKind::Quote })
}
