//! Who reaches a directory, and who of very many is compared.

use std::collections::{BTreeMap, BTreeSet};

use mivask_model::path::{or_root, trimmed};
use mivask_model::tree::{InodeId, Tree};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::walk::Follow;
use mivask_stage::stage::Stage;

use super::{LeftOut, MOST_MEMBERS, Shared, declared};
use crate::question::joined::Joined;

/// Who of `near`, those that mount the disk, reaches a directory, each by its shortest path.
pub(super) fn members(joined: &Joined, (source, directory): Shared, near: &[usize]) -> Vec<(usize, Vec<u8>)> {
    let stage = &joined.stage;
    let tree = &stage.source(source).tree;
    let mut all = Vec::new();
    for (number, actor) in near.iter().map(|number| (*number, &stage.actors[*number])) {
        let paths = declared(actor).filter_map(|(_, mount)| {
            if joined.disk(mount.variants[0].source) != source {
                return None;
            }
            let root = mount.root?;
            let below = below(tree, root, directory)?;
            let path = [trimmed(&mount.facts.at), &below].concat();
            // Something else may be mounted on the way.
            let seen = look(&stage.storage, &actor.mounts, or_root(&path), Follow::Links);
            let same = matches!(seen, Ok(Sight::There(place))
                if place.inode == Some(directory) && joined.disk(place.source) == source);
            same.then_some(path)
        });
        all.extend(paths.min_by_key(Vec::len).map(|path| (number, path)));
    }
    all
}

/// Where `reader` sees the directory that `maker` sees at `path`, by the shortest way; `None` where it does not.
pub(crate) fn path_of_same(joined: &Joined, (maker, path): (&str, &[u8]), reader: &str) -> Option<Vec<u8>> {
    let stage = &joined.stage;
    let maker = stage.actor(maker).ok()?;
    let reader = stage.actor(reader).ok()?;
    let Ok(Sight::There(place)) = look(&stage.storage, &maker.mounts, path, Follow::Links) else {
        return None;
    };
    let near = stage.actors.iter().position(|actor| actor.name == reader.name)?;
    let found = members(joined, (joined.disk(place.source), place.inode?), &[near]);
    found.into_iter().next().map(|(_, path)| or_root(&path).to_vec())
}

/// The path of `directory` from `root`; `None` where it is not below `root`.
fn below(tree: &Tree, root: InodeId, directory: InodeId) -> Option<Vec<u8>> {
    if !tree.is_within(directory, root) {
        return None;
    }
    let whole = tree.path_of(directory);
    let start = tree.path_of(root);
    Some(whole[start.len()..].to_vec())
}

/// Those that are compared: of each kind of member one, then a second, and so on; and how many that leaves out.
pub(super) fn compared(stage: &Stage, all: Vec<(usize, Vec<u8>)>) -> (Vec<(usize, Vec<u8>)>, LeftOut) {
    if all.len() <= MOST_MEMBERS {
        return (all, LeftOut::default());
    }
    // What there is to tell them apart, in words: it only chooses who is compared.
    let kind = |(number, path): &(usize, Vec<u8>)| {
        let actor = &stage.actors[*number];
        format!("{:?} {:?} {path:?}", actor.credentials, actor.image)
    };
    let mut kinds: BTreeMap<String, Vec<usize>> = BTreeMap::new();
    let names: Vec<String> = all.iter().map(kind).collect();
    for (at, name) in names.iter().enumerate() {
        kinds.entry(name.clone()).or_default().push(at);
    }
    let rank = |at: usize| kinds[&names[at]].iter().position(|one| *one == at).unwrap_or_default();
    let mut order: Vec<(usize, usize)> = Vec::new();
    for members in kinds.values() {
        order.extend(members.iter().take(MOST_MEMBERS).map(|at| (rank(*at), *at)));
    }
    order.sort_unstable();
    let mut chosen: Vec<usize> = order.into_iter().take(MOST_MEMBERS).map(|(_, at)| at).collect();
    chosen.sort_unstable();
    let seen: BTreeSet<&str> = chosen.iter().map(|at| names[*at].as_str()).collect();
    let alike = names.iter().filter(|name| seen.contains(name.as_str())).count() - chosen.len();
    let left_out = LeftOut { alike, others: all.len() - chosen.len() - alike };
    let chosen: BTreeSet<usize> = chosen.into_iter().collect();
    let kept = all.into_iter().enumerate().filter(|(at, _)| chosen.contains(at));
    (kept.map(|(_, member)| member).collect(), left_out)
}
