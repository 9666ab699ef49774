//! What is expected to be possible and is not, as acts.

use std::io::Write;

use mivask_core::act::{Act, Expectation, parse_act};
use mivask_core::expect::{Claim, Expected, Standing, uphold};

use crate::change::Patterns;
use crate::commands::uphold::error::Misread;
use crate::end::Failure;
use crate::load::Whole;

/// The acts that `expected` wants to succeed and that are refused; what else is broken is told, since nothing that opens anything
/// mends it.
pub(super) fn acts(whole: &Whole, expected: &[Expected], err: &mut dyn Write) -> Result<Vec<Act>, Failure> {
    let mut acts: Vec<Act> = Vec::new();
    for one in expected {
        let held = uphold(&whole.stage, one, &Patterns).map_err(|why| Misread::at(one, why))?;
        if held.standing != Standing::Broken {
            continue;
        }
        let Some(expectation) = wanted(&one.claim) else {
            let text = mivask_show::safe(&one.text);
            writeln!(
                err,
                "note: `{text}` is broken by what is possible: `remedy INPUT 'PATH at-most MODE'` narrows a path"
            )?;
            continue;
        };
        let refused =
            held.against.iter().filter(|one| !one.open).filter_map(|one| parse_act(&one.asked).ok());
        for act in refused {
            let act = Act { expectation: Some(expectation), ..act };
            if !acts.contains(&act) {
                acts.push(act);
            }
        }
        if held.more > 0 {
            let text = mivask_show::safe(&one.text);
            writeln!(err, "note: {} more acts break `{text}`: mend these first, and ask again", held.more)?;
        }
    }
    Ok(acts)
}

/// What an act is to come to, where it is to be possible.
const fn wanted(claim: &Claim) -> Option<Expectation> {
    match claim {
        Claim::Each { expectation: Expectation::Denied(_), .. } => None,
        Claim::Each { expectation, .. } => Some(*expectation),
        Claim::Never { .. }
        | Claim::Unchanged { .. }
        | Claim::Only { .. }
        | Claim::Is { .. }
        | Claim::AtMost { .. } => None,
    }
}
