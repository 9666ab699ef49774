//! Random acts in random scenarios, from a fixed seed, on every file system that can be had here.
//!
//! A difference is printed as the smallest scene file that shows it.

use mivask_kernel::unavailable;
use mivask_trial::random::{Plan, kind_unavailable, run};
use mivask_trial::scenario::Kind;

/// How many acts are tried, unless `MIVASK_RANDOM_ACTS` says otherwise.
const ACTS: usize = 24_000;
/// Where they start, unless `MIVASK_RANDOM_SEED` says otherwise.
const SEED: u64 = 0x7101_7200;

#[test]
fn random_acts_in_random_scenarios_agree() {
    if let Some(reason) = unavailable() {
        println!("skipped: random: {reason}");
        return;
    }
    let told = |name: &str| std::env::var(name).ok().and_then(|text| text.parse::<u64>().ok());
    let acts = told("MIVASK_RANDOM_ACTS").map_or(ACTS, |acts| usize::try_from(acts).unwrap());
    let seed = told("MIVASK_RANDOM_SEED").unwrap_or(SEED);
    let mut kinds = Vec::new();
    for kind in Kind::WEIGHTED {
        match kind_unavailable(kind) {
            Some(reason) => println!("skipped: random on {}: {reason}", kind.name()),
            None => kinds.push(kind),
        }
    }
    let report = run(&Plan { acts, seed, kinds, acts_a_scenario: 40, threads: 2 }, |_| {}).unwrap();
    if let Some(failure) = &report.failure {
        let (answer, result) = (&failure.held.answer, &failure.held.result);
        let (scene, act) = (failure.scenario.with_comments(&failure.act, &[]), &failure.act);
        panic!("{act}: predicted {:?} {:?}, {result:?}\n{scene}", answer.outcome, answer.effect);
    }
    println!("{} random acts agree: {:?} on {:?}", report.checked, report.outcomes, report.kinds);
    assert_eq!(report.not_checked.values().sum::<usize>(), 0, "{:?}", report.not_checked);
    assert!(report.checked >= acts, "{}", report.checked);
    assert!(report.outcomes.len() > 14, "the scenarios are too alike: {:?}", report.outcomes);
}
