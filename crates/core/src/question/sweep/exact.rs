//! What every possibility of the missing facts agrees on, and what is usual where they do not.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::outcome::{Effect, Errno};
use mivask_model::unmodelled::Touches;
use mivask_model::usual::Usual;
use mivask_rules::explore::{Explorer, explore};
use mivask_rules::settle::{Outcome, settle};
use mivask_rules::trace::{Check, StepResult};
use mivask_rules::usually::usually;
use mivask_rules::view::View;
use mivask_stage::need::Need;

use super::column::{Cell, Ending, Endings};

/// An ending with what it rests on, as far as that was found out here.
pub(super) struct Exact {
    pub ending: Ending,
    /// Behind a usual ending.
    pub usual: BTreeSet<Usual>,
    /// What any possibility took for granted.
    pub assumptions: BTreeSet<Arc<str>>,
}

/// `ending`, or what every possibility agrees on where that met a missing fact.
pub(super) fn exact(ending: Ending, decide: impl Fn(&mut Explorer) -> Result<(), Errno>) -> Exact {
    if ending.cell != Cell::Open {
        return Exact { ending, usual: BTreeSet::new(), assumptions: BTreeSet::new() };
    }
    let explored = explore(|w| decide(w).map(|()| Effect::default()));
    let failed = explored.steps.iter().rev().find(|step| matches!(step.result, StepResult::Failed(_)));
    let mut usual = BTreeSet::new();
    let ending = match settle(&explored).0 {
        Outcome::Allowed => Ending { cell: Cell::Allowed, check: None, ..ending },
        Outcome::Denied(Some(errno)) => {
            Ending { cell: Cell::Denied(errno), check: failed.map(|step| step.check), ..ending }
        }
        Outcome::Denied(None) | Outcome::Depends | Outcome::NeverRuns(_) => {
            let found = usually(&explored);
            let cell = match found.as_ref().map(|found| &found.outcome) {
                Some(Outcome::Allowed) => Some(Cell::Allowed),
                Some(Outcome::Denied(Some(errno))) => Some(Cell::Denied(*errno)),
                Some(Outcome::Denied(None) | Outcome::Depends | Outcome::NeverRuns(_)) | None => None,
            };
            usual.extend(found.filter(|_| cell.is_some()).into_iter().flat_map(|found| found.rests_on));
            Ending { usual: cell, ..ending }
        }
    };
    let assumptions = explored.assumptions;
    let ending = Ending { assumed: ending.assumed || !assumptions.is_empty(), ..ending };
    Exact { ending, usual, assumptions }
}

/// The ending of something that is perhaps not reached: whether the directories above can be searched is open (`above`), and
/// where they cannot, it is denied (EACCES).
pub(super) fn perhaps(ending: Ending, above: Ending) -> Ending {
    match ending.cell {
        Cell::Void | Cell::Denied(Errno::EACCES) => ending,
        Cell::Allowed | Cell::Denied(_) | Cell::Open => {
            let usual = match above.usual {
                Some(Cell::Allowed) => ending.certain_or_usual(),
                denied => denied,
            };
            Ending { cell: Cell::Open, check: Some(Check::Unknown), usual, ..ending }
        }
    }
}

/// What is left of endings where something was asked for that no rule here follows, or where the actor perhaps never starts.
pub(super) fn unsettled(view: &View<'_>, needs: &[Need], endings: Endings) -> Endings {
    let may = |ending: &Ending, touches: Touches| match (ending.cell, touches) {
        (Cell::Allowed, Touches::Permitted(_)) | (Cell::Allowed | Cell::Denied(_), Touches::Ids) => true,
        (Cell::Void | Cell::Open | Cell::Denied(_), _) | (_, Touches::Trusted) => false,
    };
    let starts = needs.is_empty();
    let usually_starts = needs.iter().all(|need| need.unknown.usual.is_some());
    let trusted = view.unmodelled.iter().any(|one| one.touches == Touches::Trusted);
    endings.map(|ending| {
        if view.unmodelled.iter().any(|one| may(ending, one.touches)) {
            return Ending { cell: Cell::Open, check: Some(Check::Unknown), usual: None, ..*ending };
        }
        let assumed = ending.assumed || trusted && ending.cell == Cell::Allowed;
        match ending.cell {
            Cell::Allowed if !starts => {
                let usual = usually_starts.then_some(Cell::Allowed);
                Ending { cell: Cell::Open, check: Some(Check::Unknown), assumed, usual }
            }
            Cell::Open if !usually_starts => Ending { usual: None, ..*ending },
            Cell::Void | Cell::Allowed | Cell::Denied(_) | Cell::Open => Ending { assumed, ..*ending },
        }
    })
}
