//! What speaks against an expectation, beside the running kernel: each act that is named is done, and ends as it is given.

use std::collections::BTreeSet;

use fastrand::Rng;
use mivask_core::act::parse_act;
use mivask_core::expect::{Expected, Standing, parse_expectation_line, uphold};
use mivask_core::fact::Provenance;
use mivask_core::observed::Observed;
use mivask_core::question::Comparison;
use mivask_kernel::{Bench, Choice, unavailable};
use mivask_trial::hold::{hold, predict};
use mivask_trial::scenario::{Kind, generate};

use crate::properties::Everything;
use crate::support::skipped;

/// Claims about everything: what holds is proved elsewhere, act by act; here what does not.
const CLAIMS: [&str; 8] = [
    "* never reads /**",
    "* never writes /**",
    "* never deletes /**",
    "* never enters /**",
    "* never runs /**",
    "* reads /**",
    "* writes /**",
    "* never sets-mode 0777 on /**",
];

/// Acts that are compared.
const WANTED: usize = 1_200;

#[test]
fn what_speaks_against_an_expectation_is_what_the_kernel_does() {
    if let Some(reason) = unavailable() {
        return skipped("expectations", &reason);
    }
    let bench = Bench::new(Choice::AsTold).expect("a bench where none is unavailable");
    let mut rng = Rng::with_seed(0x7301);
    let (mut compared, mut denied) = (0, 0);
    let mut standings = BTreeSet::new();
    while compared < WANTED {
        let kind = if rng.bool() { Kind::Tmpfs } else { Kind::Overlay };
        let scenario = generate(&mut rng, kind);
        let stage = scenario.stage().expect("a scenario is a scene");
        for line in CLAIMS {
            let claim = parse_expectation_line(line).expect("a line");
            let expected =
                Expected { claim, text: line.to_owned(), from: Provenance::rule("a test"), unnamed: false };
            let held = uphold(&stage, &expected, &Everything).expect("no pattern");
            standings.insert(held.standing);
            let sure = held.against.iter().filter(|one| !one.open);
            let told: Vec<(String, String)> =
                sure.map(|one| (one.asked.clone(), one.found.clone())).collect();
            let acts: Vec<_> = told.iter().map(|(act, _)| parse_act(act).expect("it reads back")).collect();
            let answers = predict(&stage, &acts).expect("actors of the scene");
            for (one, (act, found)) in hold(&stage, answers, &bench).expect("a bench").iter().zip(&told) {
                let ended = match &one.result {
                    Comparison::Same(Observed::Allowed(_)) => "allowed".to_owned(),
                    Comparison::Same(Observed::Denied(errno)) => format!("denied {errno}"),
                    Comparison::NotChecked(_) => continue,
                    other @ (Comparison::Same(_) | Comparison::Different(_)) => {
                        panic!("{line}: {act}: {other:?}\n{scenario}")
                    }
                };
                assert_eq!(*found, ended, "{line}: {act}\n{scenario}");
                compared += 1;
                denied += usize::from(ended != "allowed");
            }
        }
    }
    assert!(denied > WANTED / 10 && standings.contains(&Standing::Holds), "{denied} {standings:?}");
    println!("{compared} acts against expectations are what the kernel does, {denied} of them denied");
}
