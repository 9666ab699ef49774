//! Remedies of random acts in random scenes: whatever is proposed has to hold, and on the kernel too.

use fastrand::Rng;
use mivask_core::act::Act;
use mivask_core::change::Changes;
use mivask_core::prepare;
use mivask_core::question::{Comparison, ask};
use mivask_core::remedy::{Remedy, Situation, remedies};
use mivask_core::scene::Scene;
use mivask_core::settle::Outcome;
use mivask_kernel::{Bench, Choice, unavailable};
use mivask_trial::hold::hold;
use mivask_trial::scenario::{Kind, generate, random_act};

use crate::support::skipped;

/// How many remedies are tried on each file system.
const REMEDIES: usize = 150;

/// Makes the changes of a remedy in the scene; whether the kernel was asked.
fn holds(scene: &Scene, act: &Act, remedy: &Remedy, bench: &Bench) -> bool {
    let told: Vec<String> = remedy.steps.iter().map(|step| step.change.to_string()).collect();
    let (changes, mut changed) =
        (Changes::new(remedy.steps.iter().map(|step| step.change.clone()).collect()), scene.clone());
    changes.apply_to_scene(&mut changed).expect("a change of the description");
    let mut stage = prepare::stage(&changed);
    changes.apply_to_files(&mut stage).expect("a change of files");
    let answer = ask(&stage, act).expect("the actor of the act");
    assert_eq!(answer.outcome, Outcome::Allowed, "{act}: {told:?}");
    match hold(&stage, vec![answer], bench).expect("the bench").remove(0).result {
        Comparison::Same(_) => true,
        Comparison::NotChecked(_) => false,
        Comparison::Different(observed) => panic!("{act}: after {told:?} the kernel says {observed:?}"),
    }
}

#[test]
fn remedies_of_random_acts_hold_on_the_kernel() {
    if let Some(reason) = unavailable() {
        return skipped("random remedies", &reason);
    }
    let bench = Bench::new(Choice::AsTold).expect("a bench");
    for kind in [Kind::Tmpfs, Kind::Overlay] {
        let mut rng = Rng::with_seed(0x9e3d);
        let (mut held, mut without, mut unchecked) = (0, 0, 0);
        while held < REMEDIES {
            let scenario = generate(&mut rng, kind);
            let scene = scenario.scene().expect("a scenario");
            for _ in 0..6 {
                let act = random_act(&mut rng, &scenario);
                let found = remedies(&Situation::new(&scene, &Changes::new(Vec::new())), &act)
                    .expect("the actor of the act");
                if !matches!(found.answer.outcome, Outcome::Denied(_)) {
                    continue;
                }
                without += usize::from(found.remedies.is_empty());
                assert!(
                    !found.remedies.is_empty() || found.hint.is_some() || found.besides.is_some(),
                    "{act}: no remedy and no word on why"
                );
                for remedy in &found.remedies {
                    let kept = holds(&scene, &act, remedy, &bench);
                    held += usize::from(kept);
                    unchecked += usize::from(!kept);
                }
            }
        }
        println!(
            "{held} remedies hold on {}, {unchecked} cannot be built, {without} acts have none",
            kind.name()
        );
        assert!(unchecked < held, "{unchecked} of {held} not checked");
    }
}
