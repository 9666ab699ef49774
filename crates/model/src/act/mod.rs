//! The act language: one thing an actor does, as a sentence.

mod error;
mod parse;
pub mod split;
mod verb;

use std::fmt;

pub use error::{ActError, ActErrorKind};
pub use parse::{Rest, absolute};
pub use parse::{parse_act, parse_acts};
pub use split::{Word, split};
pub use verb::id;
pub use verb::{Node, Owner, Verb};

use crate::mode::Mode;
use crate::outcome::Errno;

/// What the writer of an act expects of it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Expectation {
    /// `-> allowed`
    Allowed,
    /// `-> denied`, with the errno if one is named
    Denied(Option<Errno>),
    /// `-> leaves 1000:3000 0640`: allowed, with this owner, group and mode as the actor sees them; `*` for any
    Leaves {
        /// Inside user id; `None` for any.
        uid: Option<u32>,
        /// Inside group id; `None` for any.
        gid: Option<u32>,
        /// Permission bits; `None` for any.
        mode: Option<Mode>,
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
        write!(f, "{} ", quoted(self.actor.as_bytes()))?;
        self.verb.sentence(&self.path, f)
    }
}

impl fmt::Display for Expectation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Allowed => f.write_str("allowed"),
            Self::Denied(None) => f.write_str("denied"),
            Self::Denied(Some(errno)) => write!(f, "denied {errno}"),
            Self::Leaves { uid, gid, mode } => {
                let any = |part: Option<String>| part.unwrap_or_else(|| "*".to_owned());
                let uid = any(uid.map(|id| id.to_string()));
                let gid = any(gid.map(|id| id.to_string()));
                write!(f, "leaves {uid}:{gid} {}", any(mode.map(|mode| mode.to_string())))
            }
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
