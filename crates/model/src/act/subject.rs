//! Who acts: a container's process, or somebody else in its place.

use std::fmt;

use super::quoted;
use super::split::{Word, split};

/// `ACTOR [as USER[:GROUP]] [running PATH]`: the process of a container, another user in the same place, or what a program
/// that either starts runs as.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Subject {
    /// The container's name, or `workload/container`.
    pub actor: String,
    /// `as USER`: somebody else who sees the same mounts. A name, a number, or either with a group behind a colon.
    pub user: Option<String>,
    /// `running PATH`: what this program makes of whoever starts it.
    pub program: Option<Vec<u8>>,
}

impl Subject {
    /// The subject that begins at the first of `words`, and how many of them it takes; `None` where there is no word.
    #[must_use]
    pub fn of(words: &[Word]) -> Option<(Self, usize)> {
        let (first, rest) = words.split_first()?;
        let mut subject = Self { actor: first.as_text(), user: None, program: None };
        let mut taken = 1;
        if let [word, user, ..] = rest
            && word.text == b"as"
        {
            subject.user = Some(user.as_text());
            taken += 2;
        }
        if let [word, path, ..] = &words[taken..]
            && word.text == b"running"
        {
            subject.program = Some(path.text.clone());
            taken += 2;
        }
        Some((subject, taken))
    }

    /// The subject of this name; one that reads as nothing else is a container's.
    #[must_use]
    pub fn named(name: &str) -> Self {
        let alone = || Self { actor: name.to_owned(), user: None, program: None };
        let Ok(words) = split(name) else { return alone() };
        match Self::of(&words) {
            Some((subject, taken)) if taken == words.len() && subject.to_string() == name => subject,
            Some(_) | None => alone(),
        }
    }

    /// Whether it is anybody but the container's own process.
    #[must_use]
    pub const fn is_guest(&self) -> bool {
        self.user.is_some() || self.program.is_some()
    }

    /// The name it goes by among actors.
    #[must_use]
    pub fn name(&self) -> String {
        if self.is_guest() { self.to_string() } else { self.actor.clone() }
    }
}

impl fmt::Display for Subject {
    /// A name that reads back as the same subject.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&quoted(self.actor.as_bytes()))?;
        if let Some(user) = &self.user {
            write!(f, " as {}", quoted(user.as_bytes()))?;
        }
        if let Some(program) = &self.program {
            write!(f, " running {}", quoted(program))?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_guests_read_back() {
        for name in [
            "gauge",
            "gauge as root",
            "gauge as 5102:bees",
            "station/gauge running /usr/bin/p",
            "gauge as root running \"/a b/\\xff\"",
        ] {
            let subject = Subject::named(name);
            assert_eq!(subject.name(), name);
            assert_eq!(subject.is_guest(), name != "gauge");
        }
        for name in ["tide gauge", "gauge as", "as as as as", "gauge \"as\" root", "a \"", "gauge running"] {
            assert_eq!(Subject::named(name), Subject { actor: name.into(), user: None, program: None });
        }
    }
}
