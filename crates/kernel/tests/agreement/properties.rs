//! What holds in any world, whatever the kernel says: no privilege is needed here.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use fastrand::Rng;
use mivask_core::act::{Act, Verb, parse_act};
use mivask_core::mode::FileKind;
use mivask_core::question::{Outcome, access, ask, facts_at, imprints};
use mivask_core::stage::Stage;

use crate::worlds::{act, scene, stage};

const WORLDS: usize = 150;

/// Each random world with its scene file and some acts.
fn worlds(seed: u64, mut check: impl FnMut(&str, &Stage, &[Act])) {
    let mut rng = Rng::with_seed(seed);
    for _ in 0..WORLDS {
        let (text, paths) = scene(&mut rng);
        let acts: Vec<Act> = (0..40).map(|_| act(&mut rng, &paths)).collect();
        check(&text, &stage(&text), &acts);
    }
}

fn outcome(stage: &Stage, act: &Act) -> Outcome {
    ask(stage, act).unwrap().outcome
}

/// Ordinary ids are names: giving everybody a new one changes no outcome.
#[test]
fn renumbered_ids_change_nothing() {
    worlds(1, |text, before, acts| {
        let mut renumbered = text.to_owned();
        for (old, new) in
            [("8101", "38101"), ("8102", "18102"), ("8200", "28200"), ("8300", "908300"), ("8900", "58900")]
        {
            renumbered = renumbered.replace(old, new);
        }
        let after = stage(&renumbered);
        for act in acts {
            assert_eq!(outcome(before, act), outcome(&after, act), "{act}\n{text}");
        }
    });
}

/// A capability opens doors and closes none. (A group may: it can take what `other` had.)
#[test]
fn more_capabilities_never_deny() {
    worlds(2, |text, before, acts| {
        let (start, _) = text.split_once("    effective-capabilities: ").unwrap();
        let after = stage(&format!("{start}    effective-capabilities: all\n"));
        for act in acts.iter().filter(|act| outcome(before, act) == Outcome::Allowed) {
            assert_eq!(outcome(&after, act), Outcome::Allowed, "{act}\n{text}");
        }
    });
}

/// Fewer bits in the umask never change whether something can be created, only what it looks like.
#[test]
fn the_umask_changes_no_outcome() {
    worlds(3, |text, before, acts| {
        let after = stage(&text.replace("    umask: '", "    umask: '0000' # "));
        for act in acts {
            assert_eq!(outcome(before, act), outcome(&after, act), "{act}\n{text}");
        }
    });
}

/// A read-only mount denies every change and nothing else.
#[test]
fn a_read_only_root_denies_changes_only() {
    worlds(4, |text, before, acts| {
        let after =
            stage(&text.replace("{ volume: main, at: / }", "{ volume: main, at: /, read-only: true }"));
        for act in acts {
            let (was, is) = (outcome(before, act), outcome(&after, act));
            let looks = matches!(
                act.verb,
                Verb::Inspects | Verb::InspectsLink | Verb::Reads | Verb::Runs | Verb::Lists | Verb::Enters
            );
            assert!(!looks || was == is, "{act}: {was:?} {is:?}\n{text}");
            assert!(is != Outcome::Allowed || was == Outcome::Allowed, "{act}: {was:?} {is:?}\n{text}");
        }
    });
}

/// The matrix says what single acts say.
#[test]
fn the_matrix_agrees_with_single_acts() {
    worlds(5, |text, stage, acts| {
        let actor = &stage.actors[0];
        for path in acts.iter().map(|act| &act.path) {
            let row = access(stage, actor, path);
            let single = |verb| {
                outcome(stage, &Act { actor: "x".into(), verb, path: path.clone(), expectation: None })
            };
            let cells = [
                (Verb::Reads, &row.cells.read),
                (Verb::Writes, &row.cells.write),
                (Verb::Lists, &row.cells.list),
                (Verb::Enters, &row.cells.enter),
                (Verb::Runs, &row.cells.run),
            ];
            for (verb, cell) in cells.iter().filter_map(|(verb, cell)| Some((*verb, cell.as_ref()?))) {
                assert_eq!(*cell, single(verb), "{} {}\n{text}", verb.word(), String::from_utf8_lossy(path));
            }
        }
    });
}

/// What `imprint` promises of a directory is what creating there leaves.
#[test]
fn imprints_agree_with_creating() {
    worlds(6, |text, stage, acts| {
        let actor = &stage.actors[0];
        for path in acts.iter().map(|act| &act.path) {
            if facts_at(stage, actor, path).is_none_or(|facts| facts.kind != FileKind::Directory) {
                continue;
            }
            let rows = imprints(stage, actor, std::slice::from_ref(path));
            let below = String::from_utf8([path.as_slice(), b"/zz"].concat()).unwrap();
            for (row, verb) in rows.iter().zip(["creates", "makes-directory"]) {
                let answer = ask(stage, &parse_act(&format!("x {verb} {below}")).unwrap()).unwrap();
                assert_eq!(row.outcome, answer.outcome, "{below}\n{text}");
                assert_eq!(row.imprint, answer.effect.imprint, "{below}\n{text}");
            }
        }
    });
}

/// Every act that is denied says by which check, and the last step is the one that failed.
#[test]
fn a_denial_names_its_check() {
    worlds(7, |text, stage, acts| {
        for act in acts {
            let answer = ask(stage, act).unwrap();
            let failed = answer.steps.last().map(|step| step.result);
            let expected = answer.outcome.errno().map(mivask_core::trace::StepResult::Failed);
            assert!(expected.is_none() || failed == expected, "{act}: {failed:?}, {expected:?}\n{text}");
        }
    });
}
