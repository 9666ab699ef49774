//! What a remedy is looked for in: the scene, what is changed anyway, and what is to hold afterwards too.

use mivask_model::glob::{Globs, NoGlobs};
use mivask_stage::prepare::stage;
use mivask_stage::scene::Scene;
use mivask_stage::stage::Stage;

use crate::change::Changes;
use crate::expect::{Expected, Standing, uphold};
use crate::question::contrast::Baseline;

/// Where a remedy is looked for.
#[derive(Clone, Copy, Debug)]
pub struct Situation<'a> {
    /// The descriptions and the host.
    pub(super) scene: &'a Scene,
    /// What the user changes anyway.
    pub(super) changes: &'a Changes,
    expected: &'a [Expected],
    globs: &'a dyn Globs,
}

impl<'a> Situation<'a> {
    /// A scene of which nothing else is expected.
    #[must_use]
    pub const fn new(scene: &'a Scene, changes: &'a Changes) -> Self {
        Self { scene, changes, expected: &[], globs: &NoGlobs }
    }

    /// With what is to hold afterwards too, where it holds now; `globs` reads its patterns.
    #[must_use]
    pub const fn expecting(self, expected: &'a [Expected], globs: &'a dyn Globs) -> Self {
        Self { expected, globs, ..self }
    }

    /// Its descriptions and host.
    #[must_use]
    pub const fn scene(&self) -> &'a Scene {
        self.scene
    }

    /// The same with other descriptions and changes.
    pub(super) const fn of<'b>(&self, scene: &'b Scene, changes: &'b Changes) -> Situation<'b>
    where
        'a: 'b,
    {
        Situation { scene, changes, expected: self.expected, globs: self.globs }
    }

    /// Whether an expectation holds on `stage`.
    fn holds(&self, stage: &Stage, one: &Expected) -> bool {
        // One that cannot be read is an error of `uphold`, not of a remedy.
        let standing = uphold(stage, one, self.globs).map(|upheld| upheld.standing);
        matches!(standing, Ok(Standing::Holds | Standing::MeetsNothing))
    }
}

/// Where every attempt begins.
pub(super) struct Base<'a> {
    pub stage: Stage,
    pub situation: &'a Situation<'a>,
    /// The expectations that hold now.
    held: Vec<&'a Expected>,
}

impl<'a> Base<'a> {
    pub(super) fn new(situation: &'a Situation<'a>) -> Self {
        let stage = staged(situation.scene, situation.changes);
        let held = situation.expected.iter().filter(|one| situation.holds(&stage, one)).collect();
        Self { stage, situation, held }
    }

    pub(super) fn baselines(&self) -> Vec<Baseline<'_>> {
        self.stage.actors.iter().map(|actor| Baseline::new(&self.stage, actor)).collect()
    }

    /// The expectations that hold now and do not on `stage`.
    pub(super) fn broken(&self, stage: &Stage) -> Vec<&'a Expected> {
        self.held.iter().copied().filter(|one| !self.situation.holds(stage, one)).collect()
    }
}

/// The stage of `scene` with the files that the user changes anyway.
pub(super) fn staged(scene: &Scene, changes: &Changes) -> Stage {
    let mut now = stage(scene);
    // They were made without an error before.
    match changes.apply_to_files(&mut now) {
        Ok(_) => now,
        Err(_) => stage(scene),
    }
}
