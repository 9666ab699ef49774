//! Names as tools write them where they hold odd bytes.

/// Backslash escapes: three octal digits, the letters of C, a blank as `\ ` or `\s`, and the caret and meta forms of
/// vis(3). What is not an escape stays as it is.
pub(crate) fn backslashes(text: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(text.len());
    let mut rest = text;
    while let Some((first, after)) = rest.split_first() {
        if *first != b'\\' {
            out.push(*first);
            rest = after;
            continue;
        }
        match escape(after) {
            Some((byte, length)) => {
                out.push(byte);
                rest = &after[length..];
            }
            None => {
                out.push(b'\\');
                rest = after;
            }
        }
    }
    out
}

/// The byte of an escape behind its backslash, and how long the escape is.
fn escape(text: &[u8]) -> Option<(u8, usize)> {
    let octal = text.first_chunk::<3>().filter(|digits| digits.iter().all(|d| (b'0'..=b'7').contains(d)));
    if let Some(digits) = octal {
        let value = digits.iter().fold(0_u32, |value, digit| value * 8 + u32::from(digit - b'0'));
        return u8::try_from(value).ok().map(|byte| (byte, 3));
    }
    let byte = match text.first()? {
        b'n' => b'\n',
        b't' => b'\t',
        b'r' => b'\r',
        b'b' => 8,
        b'f' => 12,
        b'v' => 11,
        b'a' => 7,
        b's' => b' ',
        b'0' => 0,
        b'^' => return control(text.get(1).copied()?).map(|byte| (byte, 2)),
        b'M' => {
            return match (text.get(1)?, text.get(2)?) {
                (b'-', byte) => Some((byte | 0x80, 3)),
                (b'^', byte) => control(*byte).map(|byte| (byte | 0x80, 3)),
                _ => None,
            };
        }
        other @ (b'\\' | b' ' | b'#' | b'=' | b'\'' | b'"') => *other,
        _ => return None,
    };
    Some((byte, 1))
}

const fn control(letter: u8) -> Option<u8> {
    match letter {
        b'?' => Some(0x7f),
        b'@'..=b'_' => Some(letter & 0x1f),
        _ => None,
    }
}

/// A name as a terminal's listing quotes it for a shell: `'a b'`, `'it'\''s'`, `"it's"`, `'a'$'\n''b'`. `None` where
/// it is not quoted.
pub(super) fn shell_quoted(text: &[u8]) -> Option<Vec<u8>> {
    if !matches!(text.first(), Some(b'\'' | b'"')) && !text.starts_with(b"$'") {
        return None;
    }
    let mut out = Vec::new();
    let mut rest = text;
    while !rest.is_empty() {
        let (quoted, escaped) = match rest {
            [b'$', b'\'', after @ ..] => (after, true),
            [b'\'', after @ ..] => (after, false),
            [b'"', after @ ..] => {
                let end = after.iter().position(|byte| *byte == b'"')?;
                out.extend_from_slice(&after[..end]);
                rest = &after[end + 1..];
                continue;
            }
            [b'\\', byte, after @ ..] => {
                out.push(*byte);
                rest = after;
                continue;
            }
            _ => return None,
        };
        let end = closing(quoted, escaped)?;
        if escaped {
            out.extend(backslashes(&quoted[..end]));
        } else {
            out.extend_from_slice(&quoted[..end]);
        }
        rest = &quoted[end + 1..];
    }
    Some(out)
}

fn closing(text: &[u8], escaped: bool) -> Option<usize> {
    let mut at = 0;
    while at < text.len() {
        match text[at] {
            b'\'' => return Some(at),
            b'\\' if escaped => at += 2,
            _ => at += 1,
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn escapes_become_bytes() {
        assert_eq!(backslashes(b"a\\040b\\134\\n\\s\\\\x"), b"a b\\\n \\x");
        assert_eq!(backslashes(b"\\M-a\\^A\\M^A\\377\\q\\"), b"\xe1\x01\x81\xff\\q\\");
        assert_eq!(backslashes(b"\\777"), b"\\777");
    }

    #[test]
    fn shell_quotes_become_names() {
        let read = |text: &str| {
            shell_quoted(text.as_bytes()).map(|name| String::from_utf8_lossy(&name).into_owned())
        };
        assert_eq!(read("'a b'").as_deref(), Some("a b"));
        assert_eq!(read("'it'\\''s'").as_deref(), Some("it's"));
        assert_eq!(read("\"it's\"").as_deref(), Some("it's"));
        assert_eq!(read("'a'$'\\n\\033''b'").as_deref(), Some("a\n\u{1b}b"));
        assert_eq!((read("plain"), read("'open"), read("'a'b")), (None, None, None));
    }
}
