//! The name of a volume, as a folder of the dataset has it.

/// The name of a volume: letters, digits, `.`, `_` and `-`, so that every engine reads it from `volume=NAME` alike.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct VolumeName(String);

/// Why a text names no volume.
#[derive(Clone, Copy, PartialEq, Eq, Debug, thiserror::Error)]
#[error(
    "a volume of a dataset is named by 1 to 200 letters, digits, `.`, `_` and `-`, and begins with a letter or digit"
)]
pub struct NameError;

impl VolumeName {
    /// The text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl std::str::FromStr for VolumeName {
    type Err = NameError;

    fn from_str(text: &str) -> Result<Self, NameError> {
        let plain = |one: char| one.is_ascii_alphanumeric() || "._-".contains(one);
        let begins = text.starts_with(|one: char| one.is_ascii_alphanumeric());
        if begins && text.len() <= 200 && text.chars().all(plain) {
            Ok(Self(text.to_owned()))
        } else {
            Err(NameError)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_are_folders_everywhere() {
        for name in ["readings", "station.data-0", "7", "A_b"] {
            assert_eq!(name.parse::<VolumeName>().map(|name| name.0), Ok(name.to_owned()));
        }
        for name in ["", ".", "..", "a/b", "a=b", "a b", "-a", "ä", &"x".repeat(201)] {
            assert_eq!(name.parse::<VolumeName>(), Err(NameError), "{name}");
        }
    }
}
