//! Characters that whoever shows text obeys instead of showing them.

/// Whether a terminal, a page or a CI obeys `c`: control characters (C0, DEL, C1), what reorders the text around it
/// (Unicode Standard Annex 9, the explicit formatting characters), line and paragraph separators, and characters that annotate or tag
/// without being seen.
///
/// Names from disks and documents may hold them; they are shown escaped everywhere.
#[must_use]
pub fn is_obeyed(c: char) -> bool {
    c.is_control()
        || matches!(
            c,
            '\u{61c}'
                | '\u{200e}'
                | '\u{200f}'
                | '\u{2028}'..='\u{202e}'
                | '\u{2066}'..='\u{2069}'
                | '\u{fff9}'..='\u{fffb}'
                | '\u{e0000}'..='\u{e007f}'
        )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn letters_of_every_script_are_shown() {
        let shown = "aß水ש\u{200d}ع\u{301} \u{a0}";
        assert!(!shown.chars().any(is_obeyed));
        let obeyed = "\n\t\u{1b}\u{7f}\u{85}\u{9b}\u{61c}\u{200f}\u{2028}\u{202e}\u{2069}\u{e0041}";
        assert!(obeyed.chars().all(is_obeyed));
    }
}
