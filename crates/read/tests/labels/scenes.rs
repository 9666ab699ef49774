//! Scenes of the tests of labels.

use std::path::Path;

use mivask_core::question::{Answer, ask};
use mivask_core::scene::Scene;
use mivask_core::settle::Outcome;
use mivask_core::stage::Stage;
use mivask_core::{parse_act, prepare};
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{Disk, Origin, read_described};

/// The policy of the tests.
pub(crate) const POLICY: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../label/tests/policy/containers.33");

/// The stage of a scene; further files are in the folder as `(name, text)`.
pub(crate) fn staged_with(scene: &str, files: &[(&str, &str)]) -> Stage {
    prepare::stage(&scene_with(scene, files))
}

/// The same, not prepared yet.
pub(crate) fn scene_with(scene: &str, files: &[(&str, &str)]) -> Scene {
    let folder = tempfile::tempdir().unwrap();
    for (name, text) in files.iter().chain([&("scene.yaml", scene)]) {
        std::fs::write(folder.path().join(name), text).unwrap();
    }
    let mut diagnostics = Diagnostics::default();
    let origin = Origin::File(folder.path().join(Path::new("scene.yaml")));
    let described = read_described(&origin, &Disk, &mut diagnostics).unwrap_or_else(|error| {
        let all: Vec<_> = diagnostics.iter().map(|one| one.message.clone()).collect();
        panic!("{error}: {all:?}\n{scene}")
    });
    described.scene
}

/// The answer to an act.
pub(crate) fn asked(stage: &Stage, act: &str) -> Answer {
    ask(stage, &parse_act(act).unwrap()).unwrap()
}

/// What decides: `allowed`, or the errno with the fact of the deciding check, or `depends`.
pub(crate) fn verdict(stage: &Stage, act: &str) -> String {
    let answer = asked(stage, act);
    match answer.outcome {
        Outcome::Allowed => "allowed".to_owned(),
        Outcome::Depends => format!("depends on {}", answer.depends_on[0].fact),
        Outcome::Denied(_) | Outcome::NeverRuns(_) => match answer.deciding() {
            Some(step) => format!("{}: {}", step.check.code(), step.fact),
            None => format!("{:?}", answer.outcome),
        },
    }
}
