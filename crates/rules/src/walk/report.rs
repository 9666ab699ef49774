//! What a walk tells its witness: steps that passed, the one that failed, what was assumed.

use std::borrow::Cow;
use std::fmt;

use mivask_model::fact::Provenance;
use mivask_model::outcome::Errno;

use super::{Arrival, Walker};
use crate::trace::{Check, Step, StepResult};
use crate::view::Place;
use crate::witness::Witness;

impl<W: Witness> Walker<'_, '_, W> {
    /// ENOENT, with the step that says what was looked for.
    pub fn missing(&mut self, arrival: &Arrival<'_>) -> Errno {
        self.fail(Check::Lookup, "no such entry", arrival.directory, Errno::ENOENT)
    }

    /// Records a failed check at the current path and gives its error back.
    pub fn fail(&mut self, check: Check, fact: impl fmt::Display, place: Place, errno: Errno) -> Errno {
        let view = self.view;
        self.fail_from(check, fact, || view.provenance(place), errno)
    }

    /// Records a failed check that rests on the mount of `place`.
    pub fn fail_mount(&mut self, check: Check, fact: impl fmt::Display, place: Place, errno: Errno) -> Errno {
        let view = self.view;
        self.fail_from(check, fact, || view.mount(place.mount).facts.from.clone(), errno)
    }

    fn fail_from(
        &mut self,
        check: Check,
        fact: impl fmt::Display,
        from: impl FnOnce() -> Provenance,
        errno: Errno,
    ) -> Errno {
        let path = &self.path;
        let result = StepResult::Failed(errno);
        self.w.step(|| {
            if W::BRIEF {
                return Step::brief(check, result);
            }
            Step { path: shown(path), check, fact: fact.to_string(), from: from(), result, bits: None }
        });
        errno
    }

    /// Rests the decision on an assumption about the current path.
    pub fn assume(&mut self, text: impl FnOnce(&str) -> String) {
        let path = &self.path;
        self.w.assume(|| text(&String::from_utf8_lossy(path)).into());
    }

    /// Records a check that did not stop the act.
    pub fn pass(&mut self, check: Check, fact: impl FnOnce() -> (String, Provenance)) {
        let path = &self.path;
        self.w.step(|| {
            if W::BRIEF {
                return Step::brief(check, StepResult::Passed);
            }
            let (fact, from) = fact();
            Step { path: shown(path), check, fact, from, result: StepResult::Passed, bits: None }
        });
    }

    /// The path walked so far; empty unless the walk is traced.
    pub fn path(&self) -> &[u8] {
        &self.path
    }

    /// The path walked so far, for words; empty unless the walk is traced.
    pub fn path_text(&self) -> Cow<'_, str> {
        if self.path.is_empty() { Cow::Borrowed("/") } else { String::from_utf8_lossy(&self.path) }
    }

    pub(super) fn note_mount(&mut self, place: Place) {
        let mount = self.view.mount(place.mount);
        self.pass(Check::MountPoint, || {
            (format!("{} is mounted here ({})", mount.facts.kind, mount.flags), mount.facts.from.clone())
        });
    }
}

fn shown(path: &[u8]) -> Vec<u8> {
    if path.is_empty() { b"/".to_vec() } else { path.to_vec() }
}
