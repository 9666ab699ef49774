//! Many differences as few lines: the same change, below one directory.

use std::collections::BTreeMap;

use super::{Drift, StoredFacts};

/// One way in which entries changed, and where.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct DriftGroup {
    /// What changed, such as `owner 5101 -> 0` or `owner 5101:5200 -> 0:0`; `appeared` or `gone`.
    pub what: String,
    /// How many entries.
    pub count: usize,
    /// The directory that all of them are in, or the only path.
    pub below: Vec<u8>,
}

/// The differences summed by what changed: each with the deepest directory that all of them are in, the many first.
#[must_use]
pub fn summed<'a>(found: impl Iterator<Item = (&'a [u8], &'a Drift)>) -> Vec<DriftGroup> {
    let mut groups: BTreeMap<String, DriftGroup> = BTreeMap::new();
    for (path, one) in found {
        let (what, count) = match one {
            Drift::Changed { before, after } => (changed(before, after), 1),
            Drift::Appeared { below, .. } => ("appeared".to_owned(), below + 1),
            Drift::Gone { below, .. } => ("gone".to_owned(), below + 1),
        };
        match groups.get_mut(&what) {
            Some(group) => {
                group.count += count;
                let common = common(&group.below, path);
                group.below.truncate(common);
            }
            None => {
                let below = path.to_vec();
                groups.insert(what.clone(), DriftGroup { what, count, below });
            }
        }
    }
    let mut groups: Vec<DriftGroup> = groups.into_values().collect();
    for group in &mut groups {
        if group.below.is_empty() {
            group.below = b"/".to_vec();
        }
    }
    groups.sort_by_key(|group| std::cmp::Reverse(group.count));
    groups
}

/// How much of both is one directory.
fn common(left: &[u8], right: &[u8]) -> usize {
    let same = left.iter().zip(right).take_while(|(a, b)| a == b).count();
    let ends = |path: &[u8]| path.get(same).is_none_or(|byte| *byte == b'/');
    if ends(left) && ends(right) {
        return same;
    }
    left[..same].iter().rposition(|byte| *byte == b'/').unwrap_or(0)
}

/// What is not the same, in words.
fn changed(before: &StoredFacts, after: &StoredFacts) -> String {
    let mut parts = Vec::new();
    if before.kind != after.kind {
        return format!("{} -> {}", before.kind.noun(), after.kind.noun());
    }
    if let (Some(was), Some(is)) = (before.owner, after.owner)
        && was != is
    {
        // A change of the owner alone is one line whatever groups the entries have.
        parts.push(if was.gid == is.gid {
            format!("owner {} -> {}", was.uid, is.uid)
        } else if was.uid == is.uid {
            format!("group {} -> {}", was.gid, is.gid)
        } else {
            format!("owner {was} -> {is}")
        });
    }
    if let (Some(was), Some(is)) = (before.mode, after.mode)
        && was != is
    {
        parts.push(format!("mode {was} -> {is}"));
    }
    let text = |text: &Option<std::sync::Arc<str>>| text.as_deref().unwrap_or("none").to_owned();
    for (name, was, is) in [
        ("ACL", &before.acl, &after.acl),
        ("default ACL", &before.default_acl, &after.default_acl),
        ("capabilities", &before.capabilities, &after.capabilities),
    ] {
        if was != is {
            parts.push(format!("{name} {} -> {}", text(was), text(is)));
        }
    }
    if before.target != after.target {
        parts.push("link to elsewhere".to_owned());
    }
    parts.join(", ")
}
