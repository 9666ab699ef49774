//! The act language: one thing an actor does, as a sentence.

mod parse;

use std::fmt;

pub use parse::{ActError, ActErrorKind, parse_act, parse_acts};

use crate::mode::Mode;
use crate::outcome::Errno;

/// What an actor does; each verb stands for one system call.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum Verb {
    /// stat
    Inspects,
    /// lstat
    InspectsLink,
    /// open O_RDONLY
    Reads,
    /// open O_WRONLY
    Writes,
    /// open O_WRONLY|O_APPEND
    Appends,
    /// open O_WRONLY|O_TRUNC
    Truncates,
    /// open O_RDWR
    Updates,
    /// open O_WRONLY|O_CREAT|O_TRUNC
    Overwrites,
    /// open O_WRONLY|O_CREAT|O_APPEND
    Extends,
    /// execve
    Runs,
    /// opendir and readdir
    Lists,
    /// chdir
    Enters,
    /// open O_CREAT|O_EXCL with this mode
    Creates(Mode),
    /// mkdir with this mode
    MakesDirectory(Mode),
    /// unlink
    Deletes,
    /// rmdir
    RemovesDirectory,
}

impl Verb {
    /// Every verb, with the mode it asks for where none is given.
    pub const ALL: [Self; 16] = [
        Self::Inspects,
        Self::InspectsLink,
        Self::Reads,
        Self::Writes,
        Self::Appends,
        Self::Truncates,
        Self::Updates,
        Self::Overwrites,
        Self::Extends,
        Self::Runs,
        Self::Lists,
        Self::Enters,
        Self::Creates(Mode::new(0o666)),
        Self::MakesDirectory(Mode::new(0o777)),
        Self::Deletes,
        Self::RemovesDirectory,
    ];

    /// The word in the act language.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Inspects => "inspects",
            Self::InspectsLink => "inspects-link",
            Self::Reads => "reads",
            Self::Writes => "writes",
            Self::Appends => "appends",
            Self::Truncates => "truncates",
            Self::Updates => "updates",
            Self::Overwrites => "overwrites",
            Self::Extends => "extends",
            Self::Runs => "runs",
            Self::Lists => "lists",
            Self::Enters => "enters",
            Self::Creates(_) => "creates",
            Self::MakesDirectory(_) => "makes-directory",
            Self::Deletes => "deletes",
            Self::RemovesDirectory => "removes-directory",
        }
    }

    /// The mode it asks for; `None` where it creates nothing.
    #[must_use]
    pub const fn mode(self) -> Option<Mode> {
        match self {
            Self::Creates(mode) | Self::MakesDirectory(mode) => Some(mode),
            Self::Inspects
            | Self::InspectsLink
            | Self::Reads
            | Self::Writes
            | Self::Appends
            | Self::Truncates
            | Self::Updates
            | Self::Overwrites
            | Self::Extends
            | Self::Runs
            | Self::Lists
            | Self::Enters
            | Self::Deletes
            | Self::RemovesDirectory => None,
        }
    }

    /// The verb of that word.
    #[must_use]
    pub fn by_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|verb| verb.word() == word)
    }
}

/// What the writer of an act expects of it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Expectation {
    /// `-> allowed`
    Allowed,
    /// `-> denied`, with the errno if one is named
    Denied(Option<Errno>),
    /// `-> leaves 1000:3000 0640`: allowed, with this owner, group and mode as the actor sees them
    Leaves {
        /// Inside user id.
        uid: u32,
        /// Inside group id.
        gid: u32,
        /// Permission bits.
        mode: Mode,
    },
}

/// One act: who does what to which path.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Act {
    /// A container's name, or `workload/container`.
    pub actor: String,
    /// What it does.
    pub verb: Verb,
    /// The absolute path inside, as bytes.
    pub path: Vec<u8>,
    /// What it is expected to come to.
    pub expectation: Option<Expectation>,
}

impl fmt::Display for Act {
    /// The sentence without its expectation; it reads back as the same act.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {} {}", self.actor, self.verb.word(), quoted(&self.path))?;
        let usual = Self::usual_mode(self.verb);
        match self.verb.mode() {
            Some(mode) if Some(mode) != usual => write!(f, " mode {mode}"),
            Some(_) | None => Ok(()),
        }
    }
}

impl Act {
    /// The mode a verb asks for where none is given.
    fn usual_mode(verb: Verb) -> Option<Mode> {
        Verb::by_word(verb.word()).and_then(Verb::mode)
    }
}

impl fmt::Display for Expectation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Allowed => f.write_str("allowed"),
            Self::Denied(None) => f.write_str("denied"),
            Self::Denied(Some(errno)) => write!(f, "denied {errno}"),
            Self::Leaves { uid, gid, mode } => write!(f, "leaves {uid}:{gid} {mode}"),
        }
    }
}

/// A path as the act language writes it: as it is, or in double quotes with escapes where it
/// holds blanks, quotes, `#`, control characters or bytes that are not UTF-8.
#[must_use]
pub fn quoted(path: &[u8]) -> String {
    let plain = std::str::from_utf8(path).ok().filter(|text| {
        !text.is_empty()
            && text.chars().all(|c| {
                !c.is_whitespace() && !c.is_control() && !is_bidi(c) && !matches!(c, '"' | '#' | '\\')
            })
    });
    if let Some(text) = plain {
        return text.to_owned();
    }
    let mut out = String::from("\"");
    for chunk in path.utf8_chunks() {
        for c in chunk.valid().chars() {
            match c {
                '"' | '\\' => out.extend(['\\', c]),
                c if c.is_control() || is_bidi(c) => {
                    let mut bytes = [0; 4];
                    c.encode_utf8(&mut bytes)
                        .bytes()
                        .for_each(|byte| out.push_str(&format!("\\x{byte:02x}")));
                }
                c => out.push(c),
            }
        }
        chunk.invalid().iter().for_each(|byte| out.push_str(&format!("\\x{byte:02x}")));
    }
    out.push('"');
    out
}

/// Characters that reorder the text around them on a terminal.
const fn is_bidi(c: char) -> bool {
    matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}
