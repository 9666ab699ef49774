//! One file a command: its arguments, whose doc comments are the help, and its function.

pub(crate) mod access;
pub(crate) mod admits;
pub(crate) mod ask;
pub(crate) mod compare;
pub(crate) mod completions;
pub(crate) mod confirm;
pub(crate) mod decode;
pub(crate) mod demo;
pub(crate) mod draft;
pub(crate) mod exposure;
pub(crate) mod handoff;
pub(crate) mod identity;
pub(crate) mod imprint;
pub(crate) mod manual;
pub(crate) mod mounts;
pub(crate) mod rehearse;
pub(crate) mod remedy;
pub(crate) mod report;
pub(crate) mod schema;
pub(crate) mod survey;
pub(crate) mod uphold;
pub(crate) mod verdicts;
pub(crate) mod why;
