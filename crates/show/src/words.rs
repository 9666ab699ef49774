//! How an act ends, in a few words.

use mivask_core::act::Verb;
use mivask_core::caps::{Capability, CapabilitySet};
use mivask_core::handoff::Use;
use mivask_core::observed::Observed;
use mivask_core::outcome::{Effect, Imprint, RunsAs};
use mivask_core::picked::in_words;
use mivask_core::question::Held;
use mivask_core::settle::Outcome;

/// How an act ends, such as `denied EACCES`.
#[must_use]
pub fn outcome(outcome: &Outcome) -> String {
    match outcome {
        Outcome::Allowed => "allowed".to_owned(),
        Outcome::Denied(Some(errno)) => format!("denied {errno}"),
        Outcome::Denied(None) => "denied".to_owned(),
        Outcome::Depends => "depends".to_owned(),
        Outcome::NeverRuns(_) => "never runs".to_owned(),
    }
}

/// What was predicted, such as `denied EACCES` or `allowed, leaves 7101:7300 0644`.
#[must_use]
pub fn predicted(held: &Held) -> String {
    match &held.answer.outcome {
        Outcome::Allowed => allowed(&held.answer.act.verb, &held.answer.effect),
        Outcome::Denied(_) | Outcome::Depends | Outcome::NeverRuns(_) => outcome(&held.answer.outcome),
    }
}

/// What the kernel did, in the same words.
#[must_use]
pub fn observed(verb: &Verb, observed: &Observed) -> String {
    match observed {
        Observed::Allowed(effect) => allowed(verb, effect),
        Observed::Denied(errno) => format!("denied {errno}"),
        Observed::Other(number) => format!("failed with errno {number}"),
    }
}

fn allowed(verb: &Verb, effect: &Effect) -> String {
    if let Some(left) = &effect.imprint {
        return format!("allowed, {}", found(verb, left));
    }
    effect.runs_as.map_or_else(|| "allowed".to_owned(), |runs_as| format!("allowed, {}", ran(&runs_as)))
}

/// `leaves 7101:7300 0640, acl ...`, or `shows ...` where the act only looks.
pub(crate) fn found(verb: &Verb, left: &Imprint) -> String {
    let acl = left.acl.as_ref().map_or_else(String::new, |acl| format!(", acl {acl}"));
    let default = left.default_acl.as_ref().map_or_else(String::new, |acl| format!(", default acl {acl}"));
    let label = left.label.as_ref().map_or_else(String::new, |label| format!(", label {label}"));
    format!("{} {}{}{acl}{default}{label}", verb.imprint_word(), imprint(left), elsewhere(left))
}

/// `runs as 0:7200 with CHOWN FOWNER and 3 more`.
pub(crate) fn ran(runs_as: &RunsAs) -> String {
    format!("runs as {}:{}{}", runs_as.uid, runs_as.gid, with(runs_as.effective))
}

/// Capabilities that decide about files; the others are only counted.
const ABOUT_FILES: [Capability; 9] = [
    Capability::Chown,
    Capability::DacOverride,
    Capability::DacReadSearch,
    Capability::Fowner,
    Capability::Fsetid,
    Capability::LinuxImmutable,
    Capability::Mknod,
    Capability::Setfcap,
    Capability::SysAdmin,
];

fn with(held: CapabilitySet) -> String {
    if held == CapabilitySet::ALL {
        return " with every capability".to_owned();
    }
    let named: Vec<&str> =
        ABOUT_FILES.into_iter().filter(|capability| held.has(*capability)).map(Capability::name).collect();
    let rest = held.iter().count() - named.len();
    match (named.is_empty(), rest) {
        (true, 0) => String::new(),
        (true, 1) => " with 1 capability, not about files".to_owned(),
        (true, rest) => format!(" with {rest} capabilities, none about files"),
        (false, 0) => format!(" with {}", named.join(" ")),
        (false, rest) => format!(" with {} and {rest} more", named.join(" ")),
    }
}

/// An id, or `?` where it depends on something.
pub(crate) fn id(raw: Option<u32>) -> String {
    raw.map_or_else(|| "?".to_owned(), |raw| raw.to_string())
}

/// `7101:7300 0644`.
pub(crate) fn imprint(imprint: &Imprint) -> String {
    let mode = imprint.mode.map_or_else(|| "????".to_owned(), |mode| mode.to_string());
    format!("{}:{} {mode}", id(imprint.uid.map(|uid| uid.raw())), id(imprint.gid.map(|gid| gid.raw())))
}

/// The same as stored on the disk, without the mode.
pub(crate) fn stored(imprint: &Imprint) -> String {
    let shown = |raw: Option<u32>| raw.map_or_else(|| "?".to_owned(), in_words);
    format!(
        "{}:{}",
        shown(imprint.disk_uid.map(|uid| uid.raw())),
        shown(imprint.disk_gid.map(|gid| gid.raw()))
    )
}

/// `, stored as 8101:8200` where the disk keeps other ids than the actor sees.
pub(crate) fn elsewhere(left: &Imprint) -> String {
    let shown = imprint(left);
    let other = stored(left);
    if shown.starts_with(&format!("{other} ")) { String::new() } else { format!(", stored as {other}") }
}

/// The letter of a use of someone else's file, in the matrix of `handoff` and in its figure.
pub(crate) const fn use_letter(wanted: Use) -> &'static str {
    match wanted {
        Use::Read => "r",
        Use::Change => "c",
        Use::Delete => "d",
        Use::Replace => "p",
    }
}
