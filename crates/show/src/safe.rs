//! Names come from disks and documents and may hold anything; a terminal must not obey them.

use std::fmt::Write;

/// `text` with control characters and characters that reorder text shown as escapes.
#[must_use]
pub fn safe(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        let reorders =
            matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
        if c.is_control() || reorders {
            // Writing to a String cannot fail.
            let _ = write!(out, "\\u{{{:x}}}", c as u32);
        } else {
            out.push(c);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_terminal_is_not_moved() {
        assert_eq!(safe("a\u{1b}[2J\nb\u{202e}c"), "a\\u{1b}[2J\\u{a}b\\u{202e}c");
        assert_eq!(safe("größe 水"), "größe 水");
    }
}
