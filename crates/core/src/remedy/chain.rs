//! One kind of change on every directory of the way, however deep: the search changes only a few things together.

use super::attempt::{attempt, joined};
use super::{Base, Tried, candidate};
use crate::remedy::wish::Wish;

/// Links of the way that are changed at most: a path of more than 4,096 bytes has no names.
const LONGEST: usize = 256;

/// An ACL entry for the actor wherever the way is closed, and on what it leads to: nobody else gets anything by it.
pub(super) fn of_entries(start: &Tried, base: &Base<'_>, wish: &Wish<'_>) -> Option<Tried> {
    // An entry on today's file says nothing of the next one.
    if wish.made.is_some() {
        return None;
    }
    let mut from = start.again();
    for _ in 0..LONGEST {
        let now = from.stage(base).ok()?;
        let candidate = candidate::entry(&now, wish, &from.answer)?;
        let steps = joined(&from.steps, &candidate);
        let one = attempt(base, (&from, &now), &candidate, steps, wish)?;
        if one.reached {
            return Some(one);
        }
        if !wish.moves_on(&from, &one) {
            return None;
        }
        from = one;
    }
    None
}
