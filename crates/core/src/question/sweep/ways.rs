//! Mounts of which several sources are possible: which are followed side by side, and which of them are usual.

use std::collections::{BTreeMap, BTreeSet};

use mivask_model::mount::{Mount, MountId, MountTable};
use mivask_model::usual::Usual;
use mivask_rules::usual::variant;

use super::column::{Cell, Ending, Endings};
use super::pass::Seen;
use mivask_rules::trace::Check;

/// How many choices are followed side by side; below mounts that would take more everything is open.
const MOST: usize = 16;

/// The choices that are possible, each a mount table without a question. Mounts that lie beside each other are chosen in step:
/// what is below one does not depend on the other, but through links, which are asked about by themselves.
pub(super) struct Ways {
    pub tables: Vec<MountTable>,
    above: BTreeMap<MountId, Above>,
}

/// What decides below a mount: itself, and those that it lies in.
#[derive(Clone)]
struct Above {
    /// How many choices that makes.
    count: usize,
    /// In which of the tables everything is as usual.
    usual: Vec<bool>,
    rests_on: BTreeSet<Usual>,
}

fn is_open(mount: &Mount) -> bool {
    mount.variants.len() > 1 && mount.facts.question.is_some()
}

impl Ways {
    /// `None` where every mount has one source.
    pub(super) fn of(mounts: &MountTable) -> Option<Self> {
        if !mounts.iter().any(|(_, mount)| is_open(mount)) {
            return None;
        }
        let mut above: BTreeMap<MountId, Above> = BTreeMap::new();
        let most = mounts.iter().fold(1, |most: usize, (id, mount)| {
            let outer = mount.on.and_then(|(on, _)| above.get(&on)).map_or(1, |one| one.count);
            let count = outer.saturating_mul(if is_open(mount) { mount.variants.len() } else { 1 });
            above.insert(id, Above { count, usual: Vec::new(), rests_on: BTreeSet::new() });
            if count > MOST { most } else { most.max(count) }
        });
        let mut tables = vec![mounts.clone(); most];
        for (id, mount) in mounts.iter() {
            let outer = mount.on.and_then(|(on, _)| above.get(&on));
            let stride = outer.map_or(1, |one| one.count);
            let mut usual = outer.map_or_else(|| vec![true; most], |one| one.usual.clone());
            let mut rests_on = outer.map(|one| one.rests_on.clone()).unwrap_or_default();
            if is_open(mount) {
                let answer = mount.facts.question.as_ref().and_then(variant);
                for (number, table) in tables.iter_mut().enumerate() {
                    let chosen = number / stride % mount.variants.len();
                    table.choose(id, chosen);
                    usual[number] &= answer.as_ref().is_none_or(|(_, at)| *at == chosen);
                }
                rests_on.extend(answer.map(|(usual, _)| usual));
            }
            if let Some(own) = above.get_mut(&id) {
                (own.usual, own.rests_on) = (usual, rests_on);
            }
        }
        Some(Self { tables, above })
    }

    /// What the choices agree on for an inode on `mount`, and the usual facts that a usual ending rests on.
    pub(super) fn merged(&self, mount: MountId, seen: &[Seen], rests_on: &mut BTreeSet<Usual>) -> Seen {
        let mut merged = seen[0];
        merged.shut = seen.iter().any(|one| one.shut);
        merged.endings = Endings::from_fn(|column| {
            self.agreed(mount, seen.iter().map(|one| *one.endings.of(column)), rests_on)
        });
        let entered = || seen.iter().map(|one| one.entered);
        merged.entered = (merged.entered.is_some() && entered().all(|one| one.is_some()))
            .then(|| self.agreed(mount, entered().flatten(), rests_on));
        merged
    }

    /// What the choices agree on below `mount`.
    pub(super) fn agreed(
        &self,
        mount: MountId,
        endings: impl Iterator<Item = Ending>,
        rests_on: &mut BTreeSet<Usual>,
    ) -> Ending {
        let endings: Vec<Ending> = endings.collect();
        let first = endings[0];
        let assumed = endings.iter().any(|one| one.assumed);
        let above = self.above.get(&mount);
        if first.cell == Cell::Void {
            return first;
        }
        if above.is_some_and(|one| one.count > MOST) {
            return Ending { cell: Cell::Open, check: Some(Check::Unknown), assumed, usual: None };
        }
        if endings.iter().all(|one| one.cell == first.cell && one.usual == first.usual) {
            return Ending { assumed, ..first };
        }
        let usual = above.and_then(|above| {
            let mut of_usual = endings.iter().zip(&above.usual).filter(|(_, is_usual)| **is_usual);
            let (one, _) = of_usual.next()?;
            let cell = one.certain_or_usual()?;
            let same = of_usual.all(|(other, _)| other.certain_or_usual() == Some(cell));
            same.then(|| {
                rests_on.extend(above.rests_on.iter().cloned());
                cell
            })
        });
        Ending { cell: Cell::Open, check: Some(Check::Unknown), assumed, usual }
    }
}
