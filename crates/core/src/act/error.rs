//! Mistakes in acts.

use std::ops::Range;

use super::Verb;
use crate::words::nearest;

/// A mistake in an act, with the bytes it stands at.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("{kind}")]
pub struct ActError {
    /// Byte range within the text that was parsed.
    pub span: Range<usize>,
    /// What is wrong.
    pub kind: ActErrorKind,
}

/// What can be wrong with an act.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ActErrorKind {
    /// Something is missing at the end.
    #[error("the act ends where {what} is expected")]
    Short {
        /// What is missing.
        what: &'static str,
        /// How a sentence with that verb is built.
        form: Option<&'static str>,
    },
    /// The verb is not one.
    #[error("`{0}` is no verb")]
    Verb(String),
    /// The path is not absolute.
    #[error("`{0}` is no absolute path")]
    Relative(String),
    /// The mode is not octal.
    #[error("`{0}` is no octal mode")]
    Mode(String),
    /// A change of a mode that is none.
    #[error("`{0}` is no mode")]
    Change(String),
    /// A user or group id that is none.
    #[error("`{0}` is no numeric id")]
    Id(String),
    /// An owner that is none.
    #[error("`{0}` is no owner")]
    Owner(String),
    /// An ACL that is none.
    #[error("{0}")]
    Acl(String),
    /// The name of an extended attribute that is none.
    #[error("`{0}` is no name of an extended attribute")]
    Attribute(String),
    /// A device that is none.
    #[error("`{0}` is no device")]
    Node(String),
    /// A detail this verb does not take.
    #[error("`{text}` is not expected here")]
    Detail {
        /// The word.
        text: String,
        /// How a sentence with that verb is built.
        form: Option<&'static str>,
    },
    /// The expectation is not one.
    #[error("`{0}` is no expectation")]
    Expectation(String),
    /// A quoted word without its end.
    #[error("the double quote is never closed")]
    Quote,
    /// An escape that is none.
    #[error("only \\\\, \\\" and \\xNN are escapes")]
    Escape,
    /// A NUL byte in a path.
    #[error("no path holds a NUL byte")]
    Nul,
}

impl ActErrorKind {
    /// What to do about it.
    #[must_use]
    pub fn help(&self) -> String {
        let form =
            "an act is `ACTOR VERB PATH [DETAIL] [-> EXPECTATION]`, such as `gauge writes /data/level.csv`";
        let words = Verb::ALL.iter().map(Verb::word);
        match self {
            Self::Short { form: Some(form), .. } | Self::Detail { form: Some(form), .. } => {
                // A change of the scene expects nothing.
                let act = Verb::ALL.iter().any(|verb| verb.form() == *form);
                format!("write `{form}{}`", if act { " [-> EXPECTATION]" } else { "" })
            }
            Self::Short { form: None, .. } | Self::Detail { form: None, .. } => form.to_owned(),
            Self::Verb(word) => match nearest(word, words.clone()) {
                Some(verb) => format!("did you mean `{verb}`?"),
                None => format!("the verbs are {}", words.collect::<Vec<_>>().join(", ")),
            },
            Self::Change(_) => "write octal digits such as 0640, or clauses such as g+w,o-rwx".to_owned(),
            Self::Id(_) => "acts name ids by number, as the container sees them".to_owned(),
            Self::Owner(_) => "write UID, UID:GID or :GID, by number, as the container sees them".to_owned(),
            Self::Acl(_) => "write entries such as user:7102:rw-,group::r--,mask::rw-".to_owned(),
            Self::Attribute(_) => "write 1 to 255 bytes, such as user.note (`sets-acl` sets ACLs)".to_owned(),
            Self::Node(_) => "write `as char 1:3`, `as block 7:0` or `as socket`".to_owned(),
            Self::Relative(_) => {
                "write the path from the container's root, such as /data/level.csv".to_owned()
            }
            Self::Mode(_) => "write four digits from 0 to 7, such as 0640".to_owned(),
            Self::Expectation(_) => {
                "write allowed, denied, denied EACCES, or leaves 1000:3000 0640".to_owned()
            }
            Self::Quote => "close it, or write \\\" for a quote within the path".to_owned(),
            Self::Escape => "write \\\\ for a backslash".to_owned(),
            Self::Nul => "remove the \\x00".to_owned(),
        }
    }
}
