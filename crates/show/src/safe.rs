//! Names come from disks and documents and may hold anything; a terminal must not obey them.

use std::fmt::Write;

use mivask_core::glyph::is_obeyed;

/// `text` with every character escaped that a terminal, a page or a CI would obey.
#[must_use]
pub fn safe(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if is_obeyed(c) { escape(c, &mut out) } else { out.push(c) }
    }
    out
}

/// `c` as an escape.
pub(crate) fn escape(c: char, out: &mut String) {
    // Writing to a String cannot fail.
    let _ = write!(out, "\\u{{{:x}}}", u32::from(c));
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
