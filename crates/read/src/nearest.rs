//! Finding the word someone meant.

/// The known word nearest to `word`, if one is near enough to be worth proposing.
///
/// Letter case never counts as a difference.
#[must_use]
pub fn nearest<'a>(word: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let lower = word.to_lowercase();
    let length = lower.chars().count();
    let most = (word.chars().count() / 3).clamp(1, 3);
    known
        .into_iter()
        // Each character too many is a slip: most words need no comparison.
        .filter(|candidate| candidate.len().abs_diff(length) <= most || !candidate.is_ascii())
        .map(|candidate| (strsim::damerau_levenshtein(&lower, &candidate.to_lowercase()), candidate))
        .filter(|(distance, _)| *distance <= most)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, candidate)| candidate)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn case_and_small_slips_are_bridged_but_not_more() {
        let known = ["runAsUser", "runAsGroup", "fsGroup"];
        assert_eq!(nearest("runasuser", known), Some("runAsUser"));
        assert_eq!(nearest("fsgruop", known), Some("fsGroup"));
        assert_eq!(nearest("privileged", known), None);
    }
}
