//! The words in which a scene speaks of what is open: kinds of findings, what is meant, and limits of strict readers.

use std::fmt;

use mivask_model::act::{Owner, quoted, split};
use mivask_model::fact::Provenance;
use mivask_model::mode::Mode;

/// What is found.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Kind {
    /// Everyone writes it, and no sticky bit protects entries.
    WorldWritable,
    /// A secret that someone reads who never asked for it.
    SecretReadable,
    /// A path of the host that a container writes to.
    HostWritable,
    /// A program that someone can rewrite.
    ProgramWritable,
    /// A program that lends its owner or group.
    SetId,
    /// Wider than a declared limit, or a key that the filesystem-group step widened.
    TooWide,
    /// A umask that leaves new files open.
    Umask,
    /// An actor is root though nothing that is mounted needs it.
    RunsAsRoot,
    /// The host's SELinux does not confine an actor: it has no label of its own.
    Unconfined,
    /// Everyone writes it, and the sticky bit protects entries.
    WorldWritableSticky,
    /// A group that several actors share writes it.
    GroupShared,
    /// A special bit, or r of a directory, without its x.
    MissingExecute,
}

impl Kind {
    /// Every kind.
    pub const ALL: [Self; 12] = [
        Self::WorldWritable,
        Self::SecretReadable,
        Self::HostWritable,
        Self::ProgramWritable,
        Self::SetId,
        Self::TooWide,
        Self::Umask,
        Self::RunsAsRoot,
        Self::Unconfined,
        Self::WorldWritableSticky,
        Self::GroupShared,
        Self::MissingExecute,
    ];

    /// The word in answers and scene files.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::WorldWritable => "world-writable",
            Self::SecretReadable => "secret-readable",
            Self::HostWritable => "host-writable",
            Self::ProgramWritable => "program-writable",
            Self::SetId => "set-id",
            Self::TooWide => "too-wide",
            Self::Umask => "umask",
            Self::RunsAsRoot => "runs-as-root",
            Self::Unconfined => "unconfined",
            Self::WorldWritableSticky => "world-writable-sticky",
            Self::GroupShared => "group-shared",
            Self::MissingExecute => "missing-x",
        }
    }

    /// The kind of that word.
    #[must_use]
    pub fn by_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.word() == word)
    }
}

/// How bad the worst case is.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Severity {
    /// Worth knowing.
    Low,
    /// One compromised actor harms another.
    Medium,
    /// One compromised actor takes the host, a secret or everyone's data.
    High,
}

impl Severity {
    /// The word in answers.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Low => "low",
            Self::Medium => "medium",
            Self::High => "high",
        }
    }
}

impl fmt::Display for Severity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// What the scene says is meant, with the reason.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Accepted {
    /// Which finding.
    pub kind: Kind,
    /// A path inside or a pattern of paths; `None` for every one.
    pub path: Option<String>,
    /// Why it is meant.
    pub reason: String,
    /// Where it was said.
    pub from: Provenance,
}

/// The widest a path may be. Programs check that for keys and data directories and refuse to start where it is wider.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Limit {
    /// Whose view counts; everyone's who sees the path where no one is named.
    pub actor: Option<String>,
    /// The absolute path inside.
    pub path: Vec<u8>,
    /// No other bits may be set.
    pub mode: Mode,
    /// Who must own it, as the actor sees ids.
    pub owner: Option<Owner>,
}

/// A text that is not a limit.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error(
    "`{0}` is not a limit: write `[ACTOR] PATH at-most MODE [owned-by UID[:GID]]`, such as `/keys/id at-most 0600`"
)]
pub struct LimitError(pub String);

impl std::str::FromStr for Limit {
    type Err = LimitError;

    fn from_str(text: &str) -> Result<Self, LimitError> {
        let refused = || LimitError(text.to_owned());
        let words = split(text).map_err(|_| refused())?;
        let mut words = words.iter();
        let mut next = || words.next().map(|word| word.text.clone());
        let mut first = next().ok_or_else(refused)?;
        let mut actor = None;
        if first.first() != Some(&b'/') {
            actor = Some(String::from_utf8(first).map_err(|_| refused())?);
            first = next().ok_or_else(refused)?;
        }
        if first.first() != Some(&b'/') || next().as_deref() != Some(b"at-most") {
            return Err(refused());
        }
        let text_of = |word: Option<Vec<u8>>| word.and_then(|word| String::from_utf8(word).ok());
        let mode = text_of(next()).and_then(|word| word.parse().ok()).ok_or_else(refused)?;
        let owner = match next() {
            None => None,
            Some(word) if word == b"owned-by" => {
                Some(text_of(next()).and_then(|word| Owner::parse(&word)).ok_or_else(refused)?)
            }
            Some(_) => return Err(refused()),
        };
        if next().is_some() {
            return Err(refused());
        }
        Ok(Self { actor, path: first, mode, owner })
    }
}

impl fmt::Display for Limit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(actor) = &self.actor {
            write!(f, "{} ", quoted(actor.as_bytes()))?;
        }
        write!(f, "{} at-most {}", quoted(&self.path), self.mode)?;
        self.owner.map_or(Ok(()), |owner| write!(f, " owned-by {owner}"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_limit_reads_back_as_it_prints() {
        for text in [
            "/keys/id at-most 0600",
            "gauge /keys/id at-most 0600 owned-by 7101",
            "\"/a b\" at-most 0750 owned-by 7101:7200",
        ] {
            assert_eq!(text.parse::<Limit>().unwrap().to_string(), text);
        }
        for text in [
            "",
            "/k",
            "/k at-most",
            "/k at-most rw",
            "k at-most 0600",
            "/k at-most 0600 by 3",
            "/k at-most 0600 owned-by x",
            "/k at-most 0600 owned-by 3 4",
        ] {
            assert!(text.parse::<Limit>().is_err(), "{text}");
        }
    }
}
