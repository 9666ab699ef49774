//! Staging a scene and holding one act against the kernel.

#![expect(clippy::unwrap_used, clippy::print_stdout, reason = "a test that fails says where")]

use std::path::Path;
use std::sync::Mutex;

use mivask_core::act::parse_act;
use mivask_core::prepare;
use mivask_core::question::{Comparison, ask};
use mivask_core::scene::Scene;
use mivask_core::stage::Stage;
use mivask_kernel::{Bench, Choice, unavailable};
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{Disk, Origin, read_input};
use mivask_trial::hold::hold;

/// The scene or manifest at `path`, relative to this crate, on a host whose settings are this machine's.
pub(crate) fn stage(path: &str) -> Stage {
    prepare::stage(&scene(path))
}

/// The same before it is prepared.
pub(crate) fn scene(path: &str) -> Scene {
    let mut diagnostics = Diagnostics::default();
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join(path);
    let mut scene = read_input(&Origin::File(path), &Disk, &mut diagnostics).unwrap();
    assert!(
        diagnostics.is_empty(),
        "{:?}",
        diagnostics.iter().map(|diagnostic| &diagnostic.message).collect::<Vec<_>>()
    );
    scene.host.settings = mivask_kernel::settings();
    scene
}

/// The same for a manifest given as text.
pub(crate) fn stage_of(text: &str) -> Stage {
    let file = tempfile::NamedTempFile::with_suffix(".yaml").unwrap();
    std::fs::write(file.path(), text).unwrap();
    stage(file.path().to_str().unwrap())
}

/// Holds `sentence` against its expectation, if it has one, and against the kernel.
pub(crate) fn agree(stage: &Stage, name: &str, sentence: &str) {
    let act = parse_act(sentence).unwrap();
    let answer = ask(stage, &act).unwrap();
    let predicted = format!("{:?} {:?}", answer.outcome, answer.effect);
    assert_ne!(answer.holds(), Some(false), "{name}: {act}: predicted {predicted}");
    if let Some(reason) = unavailable() {
        skipped(name, &reason);
        return;
    }
    let bench = BENCHES.lock().unwrap().pop().unwrap_or_else(|| Bench::new(Choice::AsTold).unwrap());
    let held = hold(stage, vec![answer], &bench).unwrap().remove(0);
    BENCHES.lock().unwrap().push(bench);
    match held.result {
        Comparison::Same(_) => {}
        Comparison::Different(_) | Comparison::NotChecked(_) => {
            panic!("{name}: {act}: predicted {predicted}, {:?}\n{:#?}", held.result, held.answer.steps)
        }
    }
}

/// Says that `name` was not held against the kernel; CI counts these lines.
pub(crate) fn skipped(name: &str, reason: &str) {
    println!("skipped: {name}: {reason}");
}

/// Benches that no row uses just now: their file systems take longer to make than a row takes.
static BENCHES: Mutex<Vec<Bench>> = Mutex::new(Vec::new());
