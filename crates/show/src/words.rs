//! How an act ends, in a few words.

use mivask_core::outcome::{Effect, RunsAs};
use mivask_core::question::{Held, Observed, Outcome};

use crate::text::{id, imprint, stored};

/// What was predicted, such as `denied EACCES` or `allowed, leaves 7101:7300 0644`.
#[must_use]
pub fn predicted(held: &Held) -> String {
    match &held.answer.outcome {
        Outcome::Allowed => allowed(&held.answer.effect),
        Outcome::Denied(Some(errno)) => format!("denied {errno}"),
        Outcome::Denied(None) => "denied".to_owned(),
        Outcome::Depends => "depends".to_owned(),
        Outcome::NeverRuns(_) => "never runs".to_owned(),
    }
}

/// What the kernel did, in the same words.
#[must_use]
pub fn observed(observed: &Observed) -> String {
    match observed {
        Observed::Allowed(effect) => allowed(effect),
        Observed::Denied(errno) => format!("denied {errno}"),
        Observed::Other(number) => format!("failed with errno {number}"),
    }
}

fn allowed(effect: &Effect) -> String {
    if let Some(left) = &effect.imprint {
        let acl = left.acl.as_ref().map_or_else(String::new, |acl| format!(", acl {acl}"));
        return format!("allowed, leaves {}, stored as {}{acl}", imprint(left), stored(left));
    }
    effect.runs_as.map_or_else(|| "allowed".to_owned(), |runs_as| format!("allowed, {}", ran(&runs_as)))
}

/// `runs as 0:7200 with CHOWN FOWNER`.
pub(crate) fn ran(runs_as: &RunsAs) -> String {
    let (uid, gid) = (id(Some(runs_as.uid.raw())), id(Some(runs_as.gid.raw())));
    let capabilities = match runs_as.effective.is_empty() {
        true => String::new(),
        false => format!(" with {}", capabilities(runs_as)),
    };
    format!("runs as {uid}:{gid}{capabilities}")
}

fn capabilities(runs_as: &RunsAs) -> String {
    let names = runs_as.effective.to_string();
    match names.as_str() {
        "all" => "every capability".to_owned(),
        names => format!("capabilities {names}"),
    }
}
