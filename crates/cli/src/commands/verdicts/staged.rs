//! Every workload of every description on its stage, looked at on all processors while the next ones are staged.

use std::sync::Arc;

use mivask_core::scene::{Scene, Workload};
use mivask_core::stage::Stage;

use super::volumes::{Names, Volumes};
use super::{Described, State};
use crate::end::Failure;
use crate::{table, workers};

/// A workload on its stage, with the volumes of the dataset that it mounts.
pub(super) struct OnStage<'s> {
    /// Its place among all workloads of all states, from 0.
    pub(super) number: usize,
    /// The word for its state.
    pub(super) state: &'static str,
    /// The number of its description in that state.
    pub(super) part: usize,
    /// The description.
    pub(super) input: &'s str,
    /// What it is in.
    pub(super) scene: Arc<Scene>,
    /// What the volumes are called in the dataset.
    pub(super) names: Arc<Names>,
    pub(super) workload: Arc<Workload>,
    pub(super) stage: Stage,
}

/// What `look` finds about each workload, in order.
pub(super) fn each<'s, R: Send>(
    states: &'s [State],
    volumes: &Volumes,
    look: impl Fn(&OnStage<'s>) -> R + Sync,
) -> Result<Vec<R>, Failure> {
    let make = |give: &mut dyn FnMut(OnStage<'s>)| {
        let mut number = 0;
        let give = &mut |one| {
            give(OnStage { number, ..one });
            number += 1;
        };
        for state in states {
            for (part, described) in state.inputs.iter().enumerate() {
                of_input((state.word, part), described, volumes, give)?;
            }
        }
        Ok(())
    };
    workers::on_what_comes(make, look)
}

fn of_input<'s>(
    (state, part): (&'static str, usize),
    described: &'s Described,
    volumes: &Volumes,
    give: &mut dyn FnMut(OnStage<'s>),
) -> Result<(), Failure> {
    let mut scene = described.outline.scene.clone();
    let names = Arc::new(volumes.put(&described.wanted, &mut scene));
    let scene = Arc::new(scene);
    table::staged((&described.outline, &described.changes), &scene, &mut |workload, stage| {
        let (scene, names, workload) = (scene.clone(), names.clone(), workload.clone());
        give(OnStage { number: 0, state, part, input: &described.name, scene, names, workload, stage });
        Ok(())
    })
    .map(drop)
}
