//! Staging a scene and holding one act against the kernel.

#![expect(clippy::unwrap_used, clippy::print_stdout, reason = "a test that fails says where")]

use std::path::Path;

use mivask_core::act::{Act, Verb, parse_act};
use mivask_core::outcome::Effect;
use mivask_core::prepare;
use mivask_core::question::{Answer, Outcome, ask};
use mivask_core::stage::{Settings, Stage};
use mivask_kernel::{Observed, attempt, unavailable};
use mivask_read::input::{Disk, Origin, read_input};
use mivask_read::slip::Slips;

/// The scene or manifest at `path`, relative to this crate, on a host whose settings are this machine's.
pub(crate) fn stage(path: &str) -> Stage {
    let mut slips = Slips::default();
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join(path);
    let mut scene = read_input(&Origin::File(path), &Disk, &mut slips).unwrap();
    assert!(slips.is_empty(), "{:?}", slips.iter().map(|slip| &slip.message).collect::<Vec<_>>());
    scene.host.settings = settings();
    prepare::stage(&scene)
}

/// The same for a manifest given as text.
pub(crate) fn stage_of(text: &str) -> Stage {
    let file = tempfile::NamedTempFile::with_suffix(".yaml").unwrap();
    std::fs::write(file.path(), text).unwrap();
    stage(file.path().to_str().unwrap())
}

/// This machine's kernel settings.
pub(crate) fn settings() -> Settings {
    Settings {
        protected_symlinks: setting("protected_symlinks"),
        protected_regular: setting("protected_regular"),
        protected_fifos: setting("protected_fifos"),
    }
}

fn setting(name: &str) -> Option<u8> {
    std::fs::read_to_string(format!("/proc/sys/fs/{name}")).ok()?.trim().parse().ok()
}

/// Holds `sentence` against its expectation, if it has one, and against the kernel.
pub(crate) fn agree(stage: &Stage, name: &str, sentence: &str) {
    let act = parse_act(sentence).unwrap();
    let answer = ask(stage, &act).unwrap();
    let predicted = predicted(&answer);
    assert_ne!(answer.holds(), Some(false), "{name}: {act}: predicted {predicted:?}");
    if let Some(reason) = unavailable() {
        println!("skipped: {name}: {reason}");
        return;
    }
    let observed = observed(stage, &act, &predicted);
    assert_eq!(predicted, observed, "{name}: {act}\n{:#?}", answer.steps);
}

/// What the core says, in the form of what the kernel does.
pub(crate) fn predicted(answer: &Answer) -> Observed {
    match &answer.outcome {
        Outcome::Allowed => Observed::Allowed(answer.effect.clone()),
        Outcome::Denied(Some(errno)) => Observed::Denied(*errno),
        Outcome::Denied(None) | Outcome::Depends | Outcome::NeverRuns(_) => {
            panic!("{} is not settled: {:?} {:?}", answer.act, answer.outcome, answer.depends_on)
        }
    }
}

fn observed(stage: &Stage, act: &Act, predicted: &Observed) -> Observed {
    let actor = stage.actor(&act.actor).unwrap();
    let observed = attempt(stage, actor, std::slice::from_ref(act)).unwrap().remove(0);
    without_old_imprint(act, predicted, observed)
}

/// What O_CREAT only opened was there before: there is no imprint to compare.
pub(crate) fn without_old_imprint(act: &Act, predicted: &Observed, observed: Observed) -> Observed {
    let opened = matches!(predicted, Observed::Allowed(Effect { imprint: None, .. }));
    match (act.verb, observed) {
        (Verb::Overwrites | Verb::Extends, Observed::Allowed(_)) if opened => {
            Observed::Allowed(Effect::default())
        }
        (_, observed) => observed,
    }
}
