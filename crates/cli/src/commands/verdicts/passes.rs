//! What every actor can do, in as few passes over the workloads as names allow.
//!
//! Where names matter (what a `subPath` shows, what is mounted on a volume, where the interpreter of a script is) is known when every workload was
//! on its stage once. Mostly they matter nowhere, so that the first pass judges, too, and a second one judges again who mounts a volume in which they do.

use mivask_core::question::{Remark, remarks};
use mivask_disk::dataset::{ActorRow, Verdicts};

use super::State;
use super::rows::{self, Cache};
use super::volumes::{Noted, Own, Volumes};
use super::{regions, staged};
use crate::end::Failure;
use crate::terminal;

/// What the first pass found.
pub(super) struct First {
    cache: Cache,
    looked: Vec<Looked>,
}

/// The same about one workload.
struct Looked {
    noted: Noted,
    said: Vec<Remark>,
    /// `None` where it has to be judged when volumes are read again.
    rows: Option<Vec<ActorRow>>,
}

impl First {
    /// Looks at every workload.
    pub(super) fn of(states: &[State], volumes: &mut Volumes) -> Result<Self, Failure> {
        let _working = terminal::working("judging what each actor can do");
        let cache = Cache::default();
        let judged = volumes.settle_for_now();
        let looked = look(states, volumes, judged.then_some(&cache))?;
        if judged && looked.iter().any(|one| one.noted.unsure) {
            volumes.unsettle().map_err(Failure::Disk)?;
            return Ok(Self { cache, looked: look(states, volumes, None)? });
        }
        Ok(Self { cache, looked })
    }

    /// What is to be said of the workloads, in their order.
    pub(super) fn said(&mut self) -> impl Iterator<Item = Vec<Remark>> {
        self.looked.iter_mut().map(|one| std::mem::take(&mut one.said))
    }

    /// Judges what is not judged yet, or not as it is; gives all tables.
    pub(super) fn finish(self, states: &[State], volumes: &mut Volumes) -> Result<Verdicts, Failure> {
        let _working = terminal::working("judging again where names matter");
        let Self { cache, looked } = self;
        let (noted, mut rows): (Vec<_>, Vec<_>) = looked.into_iter().map(|one| (one.noted, one.rows)).unzip();
        noted.into_iter().for_each(|noted| volumes.note(noted));
        let changed = volumes.settle().map_err(Failure::Disk)?;
        if rows.iter().any(Option::is_none) || !changed.is_empty() {
            let (volumes, known) = (&*volumes, &rows);
            let again = staged::each(states, volumes, |one| {
                let own = Own::of(&one.workload, &one.names);
                let stale = known[one.number].is_none() || own.all().any(|name| changed.contains(name));
                stale.then(|| rows::of_workload(one, volumes, &cache))
            })?;
            for (rows, again) in rows.iter_mut().zip(again) {
                *rows = again.or_else(|| rows.take());
            }
        }
        let mut actors: Vec<ActorRow> = rows.into_iter().flatten().flatten().collect();
        actors.sort_unstable();
        let views = cache.finish(&actors);
        Ok(Verdicts { actors, views, regions: volumes.regions() })
    }
}

/// Looks at every workload, and judges it if there is a place to keep that.
fn look(states: &[State], volumes: &Volumes, cache: Option<&Cache>) -> Result<Vec<Looked>, Failure> {
    staged::each(states, volumes, |one| {
        let said = remarks(&one.scene, std::slice::from_ref(&one.workload), &one.stage, &|_| true);
        let noted = regions::of(one, volumes);
        let cache = cache.filter(|_| noted.is_empty());
        let rows = cache.map(|cache| rows::of_workload(one, volumes, cache));
        Looked { noted, said, rows }
    })
}
