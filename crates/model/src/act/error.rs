//! Mistakes in acts.

use std::ops::Range;

/// A mistake in an act, with the bytes it is at.
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
pub enum ActErrorKind {
    /// Something is missing at the end.
    #[error("the act ends where {what} is expected")]
    Short {
        /// What is missing.
        what: &'static str,
        /// How a sentence with that verb is built.
        form: Option<&'static str>,
    },
    /// A list without anything in it.
    #[error("nothing is named where {0} is expected")]
    Nothing(&'static str),
    /// The verb is not one.
    #[error("`{0}` is not a verb")]
    Verb(String),
    /// The path is not absolute.
    #[error("`{0}` is not an absolute path")]
    Relative(String),
    /// Paths are left out here, and this is not one.
    #[error("`{0}` is not a path to leave out")]
    LeftOut(String),
    /// No user namespace.
    #[error("`{0}` is not a user namespace: host, keep-id, nomap, auto, ns:PATH and container:NAME are")]
    Namespace(String),
    /// No type of a security label.
    #[error("`{0}` is not a type: the third part of a label is one, such as container_file_t")]
    Type(String),
    /// No level of a security label.
    #[error("`{0}` is not a level: it is the last part of a label, such as s0:c12,c40")]
    Level(String),
    /// The mode is not octal.
    #[error("`{0}` is not an octal mode")]
    Mode(String),
    /// A change of a mode that is not one.
    #[error("`{0}` is not a mode")]
    Change(String),
    /// An invalid user or group id.
    #[error("`{0}` is not a numeric id")]
    Id(String),
    /// What stands behind `as` names no user.
    #[error("`{0}` stands where a user is expected")]
    User(String),
    /// An invalid owner.
    #[error("`{0}` is not an owner")]
    Owner(String),
    /// An invalid ACL.
    #[error("{0}")]
    Acl(String),
    /// An invalid name of an extended attribute.
    #[error("`{0}` is not a name of an extended attribute")]
    Attribute(String),
    /// An invalid device.
    #[error("`{0}` is not a device")]
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
    #[error("`{0}` is not an expectation")]
    Expectation(String),
    /// A quoted word without its end.
    #[error("the double quote is never closed")]
    Quote,
    /// An invalid escape.
    #[error("only \\\\, \\\" and \\xNN are escapes")]
    Escape,
    /// A NUL byte in a path.
    #[error("no path holds a NUL byte")]
    Nul,
}
