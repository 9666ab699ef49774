//! Bytes as texts that every engine takes, and back.

use std::borrow::Cow;
use std::fmt::Write as _;

/// Bytes as text that engines take: what is no UTF-8, and a backslash, is `\xNN`, so that nothing is lost.
pub(super) fn text(bytes: &[u8]) -> Cow<'_, str> {
    if let Ok(plain) = std::str::from_utf8(bytes)
        && !plain.contains('\\')
    {
        return Cow::Borrowed(plain);
    }
    let mut all = String::new();
    for chunk in bytes.utf8_chunks() {
        for one in chunk.valid().chars() {
            match one {
                '\\' => all.push_str("\\x5c"),
                other => all.push(other),
            }
        }
        for byte in chunk.invalid() {
            let _ = write!(all, "\\x{byte:02x}");
        }
    }
    Cow::Owned(all)
}

/// The bytes of a text of a dataset, in which a backslash and what is no UTF-8 is `\xNN`.
#[must_use]
pub fn bytes(text: &str) -> Vec<u8> {
    let mut all = Vec::with_capacity(text.len());
    let mut rest = text;
    while let Some((plain, escaped)) = rest.split_once("\\x") {
        all.extend_from_slice(plain.as_bytes());
        let byte = escaped.get(..2).and_then(|digits| u8::from_str_radix(digits, 16).ok());
        // Nobody writes anything else behind a backslash.
        all.extend(byte);
        rest = escaped.get(2..).unwrap_or_default();
    }
    all.extend_from_slice(rest.as_bytes());
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_loses_no_byte() {
        for (bytes, written) in [
            (&b"plain"[..], "plain"),
            ("größe".as_bytes(), "größe"),
            (b"a\\b", "a\\x5cb"),
            (b"\xff\xfe", "\\xff\\xfe"),
            (b"a\xc3", "a\\xc3"),
            (b"line\n", "line\n"),
        ] {
            assert_eq!(text(bytes), written);
            assert_eq!(super::bytes(written), bytes);
        }
    }
}
