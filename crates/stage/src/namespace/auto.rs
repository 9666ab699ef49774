//! `auto`: a range that the engine picks, whose place nobody knows beforehand.

use mivask_model::ids::{Extent, IdMap, UserNamespace};
use mivask_model::picked::{PICKED, SLOT};

use super::asked::Auto;
use super::lines::{BadLine, MapLine, map};

/// The first of the ids that stand for those of the container with this number on its stage.
fn first(container: usize) -> u32 {
    let slots = (PICKED.end - PICKED.start) / SLOT;
    let slot = u32::try_from(container % slots as usize).unwrap_or_default();
    PICKED.start + slot * SLOT
}

/// Ids that are picked where nothing says how many: the least that Podman takes is 1024, and more for the image's accounts.
const UNTOLD: u32 = 65_536;

/// The namespace with ids that stand for those picked. What is asked for by number is as it is, in the engine's ids.
pub(super) fn picked(
    asked: &Auto,
    engine: &UserNamespace,
    container: usize,
) -> Result<Option<UserNamespace>, BadLine> {
    let size = asked.size.unwrap_or(UNTOLD).min(SLOT);
    let first = first(container);
    let side = |lines: &[MapLine], engine: &IdMap| -> Result<Option<IdMap>, BadLine> {
        let given = map(lines, engine)?;
        let given = if lines.is_empty() { Vec::new() } else { given.extents().to_vec() };
        let mut extents = match IdMap::new(given.clone()).within(engine) {
            Some(map) if !given.is_empty() => map.extents().to_vec(),
            Some(_) => Vec::new(),
            None => return Ok(None),
        };
        // What is left of 0..size is picked.
        let mut next = 0;
        let mut taken: Vec<(u32, u32)> = given.iter().map(|line| (line.inside, line.count)).collect();
        taken.sort_unstable();
        for (start, count) in taken.into_iter().chain([(size, 0)]) {
            if start > next && next < size {
                let count = start.min(size) - next;
                extents.push(Extent { inside: next, outside: first + next, count });
            }
            next = next.max(start.saturating_add(count));
        }
        Ok(Some(IdMap::new(extents)))
    };
    let (uids, gids) = (side(&asked.uids, &engine.uids)?, side(&asked.gids, &engine.gids)?);
    Ok(uids.zip(gids).map(|(uids, gids)| UserNamespace { uids, gids }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::namespace::map_line;

    #[test]
    fn what_is_asked_for_by_number_is_not_picked() {
        let asked = Auto { size: Some(10), uids: vec![map_line("5:0:1").unwrap()], gids: Vec::new() };
        let line = |inside, outside, count| Extent { inside, outside, count };
        let own = IdMap::new(vec![line(0, 1500, 1), line(1, 200_000, 65_536)]);
        let engine = UserNamespace { uids: own.clone(), gids: own };
        let space = picked(&asked, &engine, 0).unwrap().unwrap();
        let start = PICKED.start;
        assert_eq!(space.uids.extents(), [line(5, 1500, 1), line(0, start, 5), line(6, start + 6, 4)]);
        assert_eq!(space.gids.extents(), [line(0, start, 10)]);
    }
}
