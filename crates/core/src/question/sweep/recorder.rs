//! Remembers which check decided, and whether a fact was missing.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::fact::Unknown;
use mivask_model::outcome::Errno;
use mivask_model::usual::Usual;
use mivask_rules::trace::{Check, Step, StepResult};
use mivask_rules::witness::{MissingFact, Witness};

use super::column::Ending;

/// A witness of one column after the other.
#[derive(Default)]
pub(super) struct Recorder {
    /// What was taken for granted so far.
    pub assumed: BTreeSet<Arc<str>>,
    /// The facts behind what was only usual so far.
    pub usual: BTreeSet<Usual>,
    /// Whether the column that is watched rests on some of it.
    assumes: bool,
    met_unknown: bool,
    failed: Option<Check>,
    gave: Option<Check>,
}

impl Recorder {
    /// The ending of what was watched since the last one.
    pub(super) fn ending(&mut self, result: Result<(), Errno>) -> Ending {
        let check = if result.is_ok() { self.gave } else { self.failed };
        let assumed = self.assumes;
        let ending = Ending { assumed, ..Ending::of(result, self.met_unknown, check) };
        self.forget();
        ending
    }

    /// Drops what was watched, except what was assumed.
    pub(super) fn forget(&mut self) {
        self.met_unknown = false;
        self.assumes = false;
        self.failed = None;
        self.gave = None;
    }
}

impl Witness for Recorder {
    const TRACING: bool = true;
    const BRIEF: bool = true;

    fn step(&mut self, step: impl FnOnce() -> Step) {
        let Step { check, result, .. } = step();
        match result {
            StepResult::Failed(_) => self.failed = Some(check),
            StepResult::Passed if grants_or_refuses(check) => self.gave = Some(check),
            StepResult::Passed => {}
        }
    }

    fn assume(&mut self, text: impl FnOnce() -> Arc<str>) {
        self.assumes = true;
        self.assumed.insert(text());
    }

    fn choose_usually(
        &mut self,
        _: MissingFact,
        _: &Unknown,
        _: usize,
        _: (impl FnOnce() -> Option<(Usual, usize)>, impl Fn(usize) -> String),
    ) -> usize {
        self.met_unknown = true;
        0
    }
}

/// Whether passing the check is what gives permission.
const fn grants_or_refuses(check: Check) -> bool {
    matches!(
        check,
        Check::OwnerBits
            | Check::AclUser
            | Check::AclGroup
            | Check::GroupBits
            | Check::OtherBits
            | Check::UnmappedOwner
            | Check::Capability
            | Check::Server
    )
}
