//! Lines of id maps: three numbers each.

use mivask_core::ids::Extent;

/// `INSIDE OUTSIDE COUNT`; `None` where these are no three numbers, or lead out of 32 bits.
pub(crate) fn extent(text: &str) -> Option<Extent> {
    let numbers: Option<Vec<u32>> = text.split_whitespace().map(|word| word.parse().ok()).collect();
    let &[inside, outside, count] = numbers?.as_slice() else { return None };
    let fits = count > 0 && inside.checked_add(count).is_some() && outside.checked_add(count).is_some();
    fits.then_some(Extent { inside, outside, count })
}
