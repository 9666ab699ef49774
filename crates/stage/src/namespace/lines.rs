//! Lines of `--uidmap` and `--gidmap` (podman-run(1)).

use mivask_model::ids::{Extent, IdMap};

/// One line of `--uidmap` or `--gidmap`: `[+]INSIDE:[@]FROM[:COUNT]`.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct MapLine {
    /// First inside id.
    pub inside: u32,
    /// First id that it is: of the engine's namespace, or of the host with `of_host`.
    pub from: u32,
    /// How many ids.
    pub count: u32,
    /// `@`: `from` is an id of the host.
    pub of_host: bool,
    /// `+`: all other ids are mapped as well, in order.
    pub extends: bool,
}

/// Why a line is none.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum BadLine {
    /// It is not `INSIDE:FROM:COUNT`.
    #[error("`{0}` is not INSIDE:FROM:COUNT, three numbers of 32 bits")]
    Numbers(String),
    /// `@` names an id of the host that the engine does not have.
    #[error("the engine's own ids do not have {0} of the host")]
    NotHeld(u32),
    /// Two lines share an id, which the kernel refuses (EINVAL).
    #[error("two lines of the map share ids")]
    Overlap,
}

/// Reads one line. `u` and `g` in front are for the caller, who has two lists.
///
/// # Errors
/// Where these are not two or three numbers, or they lead out of 32 bits.
pub fn map_line(text: &str) -> Result<MapLine, BadLine> {
    let bad = || BadLine::Numbers(text.to_owned());
    let (extends, rest) = text.strip_prefix('+').map_or((false, text), |rest| (true, rest));
    let parts: Vec<&str> = rest.split(':').collect();
    let (inside, from, count) = match parts.as_slice() {
        [inside, from, count] => (*inside, *from, *count),
        [inside, from] => (*inside, *from, "1"),
        _ => return Err(bad()),
    };
    let (of_host, from) = from.strip_prefix('@').map_or((false, from), |from| (true, from));
    let number = |text: &str| -> Option<u32> {
        text.bytes().all(|byte| byte.is_ascii_digit()).then(|| text.parse().ok())?
    };
    let numbers = (number(inside), number(from), number(count));
    let (Some(inside), Some(from), Some(count)) = numbers else { return Err(bad()) };
    if count == 0 || inside.checked_add(count).is_none() || from.checked_add(count).is_none() {
        return Err(bad());
    }
    Ok(MapLine { inside, from, count, of_host, extends })
}

/// The lines as a map to the ids of the engine, whose own map is `engine`; with `+` all that is left of `engine` as well.
pub(super) fn map(lines: &[MapLine], engine: &IdMap) -> Result<IdMap, BadLine> {
    let mut extents: Vec<Extent> = Vec::new();
    for line in lines {
        let from = if line.of_host {
            engine.backward(line.from).ok_or(BadLine::NotHeld(line.from))?
        } else {
            line.from
        };
        let extent = Extent { inside: line.inside, outside: from, count: line.count };
        if extents.iter().any(|known| overlap(known, &extent)) {
            return Err(BadLine::Overlap);
        }
        extents.push(extent);
    }
    if lines.iter().any(|line| line.extends) {
        let all = engine.extents().iter().map(|line| line.inside.saturating_add(line.count)).max();
        fill(&mut extents, all.unwrap_or(u32::MAX));
    }
    Ok(IdMap::new(extents))
}

/// Whether two lines share an id on either side, which the kernel refuses (`mappings_overlap`).
#[must_use]
pub fn overlap(a: &Extent, b: &Extent) -> bool {
    let meet = |a_start: u32, b_start: u32| {
        u64::from(a_start) < u64::from(b_start) + u64::from(b.count)
            && u64::from(b_start) < u64::from(a_start) + u64::from(a.count)
    };
    meet(a.inside, b.inside) || meet(a.outside, b.outside)
}

/// Maps what is left of `0..all` on both sides, in order.
fn fill(extents: &mut Vec<Extent>, all: u32) {
    let mut inside = free(extents.iter().map(|line| (line.inside, line.count)).collect(), all);
    let mut outside = free(extents.iter().map(|line| (line.outside, line.count)).collect(), all);
    inside.reverse();
    outside.reverse();
    while let (Some((near, left)), Some((far, there))) = (inside.pop(), outside.pop()) {
        let count = left.min(there);
        extents.push(Extent { inside: near, outside: far, count });
        if left > count {
            inside.push((near + count, left - count));
        }
        if there > count {
            outside.push((far + count, there - count));
        }
    }
}

/// The ranges of `0..all` that `taken` leaves, each with its length, in order.
fn free(mut taken: Vec<(u32, u32)>, all: u32) -> Vec<(u32, u32)> {
    taken.sort_unstable();
    let mut next = 0;
    let mut left = Vec::new();
    for (start, count) in taken {
        if start > next {
            left.push((next, start.min(all).saturating_sub(next)));
        }
        next = next.max(start.saturating_add(count));
    }
    left.push((next, all.saturating_sub(next)));
    left.retain(|(_, count)| *count > 0);
    left
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lines(texts: &[&str]) -> Vec<MapLine> {
        texts.iter().map(|text| map_line(text).unwrap()).collect()
    }

    fn shown(map: &IdMap) -> Vec<(u32, u32, u32)> {
        map.extents().iter().map(|line| (line.inside, line.outside, line.count)).collect()
    }

    #[test]
    fn lines_are_numbers_with_a_count_of_one_where_none_is_said() {
        let plain = MapLine { inside: 0, from: 1, count: 7, of_host: false, extends: false };
        assert_eq!(map_line("0:1:7"), Ok(plain));
        let kept = MapLine { inside: 7, from: 1500, count: 1, of_host: true, extends: true };
        assert_eq!(map_line("+7:@1500"), Ok(kept));
        for bad in ["", "1", "a:b:c", "0:0:0", "1:2:3:4", "4294967295:0:2", "-1:0:1"] {
            assert!(map_line(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn an_id_of_the_host_is_looked_up_and_all_else_follows_in_order() {
        let line = |inside, outside, count| Extent { inside, outside, count };
        let engine = IdMap::new(vec![line(0, 1500, 1), line(1, 200_000, 99)]);
        let map = map(&lines(&["+7:@1500"]), &engine).unwrap();
        assert_eq!(shown(&map), [(7, 0, 1), (0, 1, 7), (8, 8, 92)]);
    }

    #[test]
    fn lines_that_share_ids_are_refused() {
        let engine = IdMap::identity();
        assert_eq!(map(&lines(&["0:0:2", "1:5:1"]), &engine), Err(BadLine::Overlap));
        assert_eq!(map(&lines(&["0:0:2", "5:1:1"]), &engine), Err(BadLine::Overlap));
        let few = IdMap::new(vec![Extent { inside: 0, outside: 9, count: 1 }]);
        assert_eq!(map(&lines(&["0:@8"]), &few), Err(BadLine::NotHeld(8)));
    }
}
