//! The act language: one thing an actor does, as a sentence.

mod error;
mod expected;
mod parse;
mod sentence;
pub mod split;
mod subject;
mod verb;

use std::fmt;

pub use error::{ActError, ActErrorKind};
pub use parse::{Rest, absolute};
pub use parse::{parse_act, parse_acts};
pub use split::{Word, split};
pub use subject::Subject;
pub use verb::id;
pub use verb::{Node, Owner, Verb};

use crate::glyph::is_obeyed;
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
    /// The name of a [`Subject`]: a container's, or `workload/container`, or that of somebody else in its place.
    pub actor: String,
    /// What it does.
    pub verb: Verb,
    /// The absolute path inside, as bytes.
    pub path: Vec<u8>,
    /// What it is expected to come to.
    pub expectation: Option<Expectation>,
}

impl Act {
    /// What it is expected to come to, as one would write it.
    #[must_use]
    pub fn expected(&self) -> Option<String> {
        self.expectation.map(|expected| match expected {
            Expectation::Leaves { uid, gid, mode } => {
                fn any(part: Option<impl fmt::Display>) -> String {
                    part.map_or_else(|| "*".to_owned(), |part| part.to_string())
                }
                format!("{} {}:{} {}", self.verb.imprint_word(), any(uid), any(gid), any(mode))
            }
            Expectation::Denied(Some(errno)) => format!("denied {errno}"),
            Expectation::Denied(None) => "denied".to_owned(),
            Expectation::Allowed => "allowed".to_owned(),
        })
    }
}

impl fmt::Display for Act {
    /// The sentence without its expectation; it reads back as the same act.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} ", Subject::named(&self.actor))?;
        self.verb.sentence(&self.path, f)
    }
}

/// A path as the act language writes it: as it is, or in double quotes with escapes where it
/// holds blanks, quotes, `#`, control characters or bytes that are not UTF-8.
#[must_use]
pub fn quoted(path: &[u8]) -> String {
    let plain = std::str::from_utf8(path).ok().filter(|text| {
        !text.is_empty()
            && text.chars().all(|c| !c.is_whitespace() && !is_obeyed(c) && !matches!(c, '"' | '#' | '\\'))
    });
    if let Some(text) = plain {
        return text.to_owned();
    }
    let mut out = String::from("\"");
    for chunk in path.utf8_chunks() {
        for c in chunk.valid().chars() {
            match c {
                '"' | '\\' => out.extend(['\\', c]),
                c if is_obeyed(c) => {
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
