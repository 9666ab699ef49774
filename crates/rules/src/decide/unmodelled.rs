//! What becomes of a verdict where something was asked for that no rule here follows.

use mivask_model::outcome::{Effect, Errno, Verdict};
use mivask_model::unmodelled::{Touches, Unmodelled};

use crate::lookup::root_credentials;
use crate::view::View;
use crate::witness::{MissingFact, Unwatched, Witness};

/// `verdict`, or what it may be instead; `again` decides the same for another view.
pub(super) fn weighed<'a, W: Witness>(
    view: &View<'a>,
    verdict: Verdict,
    w: &mut W,
    again: impl Fn(&View<'_>, &mut Unwatched) -> Verdict,
) -> Verdict {
    view.unmodelled.iter().enumerate().fold(verdict, |verdict, (at, one)| match (one.touches, verdict) {
        (Touches::Permitted(errno), Ok(effect)) => {
            let words = ["permits this", "refuses this"];
            match chosen(w, at, one, words.len(), |option| format!("{} {}", one.name, words[option])) {
                0 => Ok(effect),
                _ => Err(errno),
            }
        }
        (Touches::Permitted(_) | Touches::Trusted, Err(errno)) => Err(errno),
        (Touches::Trusted, Ok(effect)) => {
            w.assume(|| one.name.as_str().into());
            Ok(effect)
        }
        (Touches::Ids, verdict) => {
            // Whatever the ids are, nobody gets further than root.
            let root = root_credentials();
            let furthest = again(&view.of(&root), &mut Unwatched::default());
            let others: [Verdict; 3] =
                [furthest.map(|_| Effect::default()), Err(Errno::EACCES), Err(Errno::EPERM)];
            let text = |option: usize| match option {
                0 => format!("{} gives the host's own ids", one.name),
                1 => format!("{} gives others, and they are let through", one.name),
                2 => format!("{} gives others, and bits or an ACL refuse them", one.name),
                _ => format!("{} gives others, and it takes another owner or a capability", one.name),
            };
            match chosen(w, at, one, 1 + others.len(), text) {
                0 => verdict,
                option => others[option - 1].clone(),
            }
        }
    })
}

fn chosen<W: Witness>(
    w: &mut W,
    at: usize,
    one: &Unmodelled,
    count: usize,
    text: impl Fn(usize) -> String,
) -> usize {
    w.choose(MissingFact::Unmodelled(at), &one.unknown, count, text)
}
