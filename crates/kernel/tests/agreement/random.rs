//! Random small worlds, random identities and random acts, from a fixed seed.
//!
//! A world that disagrees is printed as the scene file that reproduces it.

use std::sync::Arc;

use fastrand::Rng;
use mivask_core::act::Act;
use mivask_core::question::ask;
use mivask_kernel::{Observed, attempt, unavailable};

use crate::support::{predicted, without_old_imprint};
use crate::worlds::{act, scene, stage};

/// How many acts are tried, unless `MIVASK_RANDOM_ACTS` says otherwise.
const ACTS: usize = 6_000;
/// Where they start, unless `MIVASK_RANDOM_SEED` says otherwise.
const SEED: u64 = 0x7101_7200;
/// How many acts each world meets.
const ACTS_A_WORLD: usize = 30;

#[test]
fn random_acts_in_random_worlds_agree() {
    if let Some(reason) = unavailable() {
        println!("skipped: random: {reason}");
        return;
    }
    let told = |name: &str| std::env::var(name).ok().and_then(|text| text.parse().ok());
    let count = told("MIVASK_RANDOM_ACTS").map_or(ACTS, |count: u64| usize::try_from(count).unwrap());
    let mut rng = Rng::with_seed(told("MIVASK_RANDOM_SEED").unwrap_or(SEED));
    let mut outcomes = std::collections::BTreeMap::new();
    for _ in 0..count.div_ceil(ACTS_A_WORLD) {
        let (text, paths) = scene(&mut rng);
        let stage = stage(&text);
        let acts: Vec<Act> = (0..ACTS_A_WORLD).map(|_| act(&mut rng, &paths)).collect();
        let observed = attempt(&stage, &stage.actors[0], &acts).unwrap();
        for (act, observed) in acts.iter().zip(observed) {
            let answer = ask(&stage, act).unwrap();
            let predicted = predicted(&answer);
            let observed = without_old_imprint(act, &predicted, observed);
            assert_eq!(predicted, observed, "{act}\n{text}\n{:?}\n{act}", answer.steps.last());
            let word: Arc<str> = match observed {
                Observed::Allowed(_) => Arc::from("allowed"),
                Observed::Denied(errno) => Arc::from(errno.name()),
                Observed::Other(number) => Arc::from(number.to_string()),
            };
            *outcomes.entry(word).or_insert(0_usize) += 1;
        }
    }
    println!("{count} random acts agree: {outcomes:?}");
    assert!(outcomes.len() > 8, "the worlds are too alike: {outcomes:?}");
}
