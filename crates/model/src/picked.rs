//! Ids of a range that an engine picks (`--userns auto`): they stand for numbers that nobody knows beforehand.

/// Kernel ids that stand for those of a picked range. No host has files of these: where a file's owner may be in the real range,
/// the answer depends.
pub const PICKED: std::ops::Range<u32> = 0x8000_0000..0xF000_0000;

/// Ids that one container may have picked: the ranges of two are never the same.
pub const SLOT: u32 = 1 << 20;

/// Whether a kernel id stands for one of a range that is not known.
#[must_use]
pub fn is_picked(id: u32) -> bool {
    PICKED.contains(&id)
}

/// An id of the host for people: `picked+405` for the 405th of a picked range, counted from 0.
#[must_use]
pub fn in_words(id: u32) -> String {
    if is_picked(id) { format!("picked+{}", (id - PICKED.start) % SLOT) } else { id.to_string() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_picked_id_has_no_number() {
        assert_eq!(in_words(PICKED.start + SLOT + 405), "picked+405");
        assert_eq!(in_words(405), "405");
        assert!(!is_picked(crate::ids::NO_ID) && !is_picked(crate::ids::OVERFLOW_ID));
    }
}
