//! Names in a sentence.

use std::fmt::Write;

/// Names that are listed before the rest is only counted.
const MOST_LISTED: usize = 20;

/// The names with commas between them; of very many the first, and how many more there are.
#[must_use]
pub fn listed<N: AsRef<str>>(names: impl IntoIterator<Item = N>) -> String {
    listed_up_to(MOST_LISTED, names)
}

/// The same with at most so many names: `a, b and 3 more`.
#[must_use]
pub fn listed_up_to<N: AsRef<str>>(most: usize, names: impl IntoIterator<Item = N>) -> String {
    let mut names = names.into_iter();
    let mut text = String::new();
    for name in names.by_ref().take(most) {
        if !text.is_empty() {
            text.push_str(", ");
        }
        text.push_str(name.as_ref());
    }
    let more = names.count();
    if more > 0 {
        // A string takes whatever is written to it.
        let _ = write!(text, " and {more} more");
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn many_names_are_counted_and_few_are_not() {
        let names: Vec<String> = (1..=22).map(|number| format!("p{number}")).collect();
        assert!(listed(&names).ends_with("p19, p20 and 2 more"), "{}", listed(&names));
        assert_eq!((listed(&names[..2]), listed(&names[..0])), ("p1, p2".to_owned(), String::new()));
    }
}
