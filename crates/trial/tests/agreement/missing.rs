//! What is left of an answer when facts are left out: the truth stays among what is possible, and every fact that is given
//! back takes possibilities away.
//!
//! The truth is the answer to the whole scene, which the random acts of `random.rs` hold against the kernel, from the same
//! seed and in the same scenarios.

use std::collections::BTreeSet;
use std::sync::Arc;

use fastrand::Rng;
use mivask_core::act::Act;
use mivask_core::fact::Unknown;
use mivask_core::ids::DiskOwner;
use mivask_core::outcome::{Effect, Imprint, Verdict};
use mivask_core::question::{Answer, ask, unsettled};
use mivask_core::settle::{Dependence, End, Outcome};
use mivask_core::stage::Stage;
use mivask_core::tree::{Certainty, Doubt, OwnerNames};
use mivask_trial::scenario::{Kind, Scenario, generate, random_act};

/// How many acts are asked about, unless `MIVASK_MISSING_ACTS` says otherwise.
const ACTS: usize = 100_000;
/// Where they start, unless `MIVASK_RANDOM_SEED` says otherwise.
const SEED: u64 = 0x7101_7200;

/// Every way an answer says that its act may end; `None` where there are too many to say.
fn endings(answer: &Answer) -> Option<Vec<Verdict>> {
    if answer.cut_short {
        return None;
    }
    Some(match &answer.outcome {
        Outcome::Allowed if answer.depends_on.is_empty() => vec![Ok(answer.effect.clone())],
        Outcome::Denied(Some(errno)) if answer.depends_on.is_empty() => vec![Err(*errno)],
        Outcome::Allowed | Outcome::Denied(_) | Outcome::Depends => {
            // With every fact these containers start.
            let verdict = |one: &Dependence| match &one.end {
                End::Act(verdict) => Some(verdict.clone()),
                End::NeverRuns => None,
            };
            answer.depends_on.iter().filter_map(verdict).collect()
        }
        Outcome::NeverRuns(_) => Vec::new(),
    })
}

fn word(verdict: &Verdict) -> String {
    match verdict {
        Ok(_) => "allowed".to_owned(),
        Err(errno) => errno.name().to_owned(),
    }
}

/// Whether what is said of an allowed act is what becomes of it, as far as it is said.
fn fits(said: &Effect, truth: &Effect) -> bool {
    fn same<T: PartialEq>(said: Option<&T>, truth: Option<&T>) -> bool {
        said.is_none() || said == truth
    }
    let part = |one: &Imprint, other: &Imprint| {
        same(one.uid.as_ref(), other.uid.as_ref())
            && same(one.gid.as_ref(), other.gid.as_ref())
            && same(one.mode.as_ref(), other.mode.as_ref())
            && same(one.acl.as_ref(), other.acl.as_ref())
    };
    match (&said.imprint, &truth.imprint) {
        (Some(one), Some(other)) => part(one, other),
        // Nothing is left that was not there, or it is not known what.
        (None, _) => true,
        (Some(one), None) => *one == Imprint::default(),
    }
}

fn covers(said: &[Verdict], truth: &Verdict) -> bool {
    said.iter().any(|one| match (one, truth) {
        (Ok(said), Ok(truth)) => fits(said, truth),
        (Err(said), Err(truth)) => said == truth,
        (_, _) => false,
    })
}

/// Whether an answer takes nothing for granted that another one does not.
fn rests_on_no_more(answer: &Answer, other: &Answer) -> bool {
    // One text for every path or volume that is not listed.
    let presumed = |text: &str| {
        text.starts_with("what is not listed is of the kind")
            || text.starts_with("a tmpfs whose tree is not given")
    };
    answer.assumptions.iter().all(|text| other.assumptions.contains(text) && !presumed(text))
}

/// What went wrong with one act, if anything did.
fn difference(whole: &Answer, less: &Answer, least: &Answer) -> Option<String> {
    let truth = endings(whole)?.into_iter().next()?;
    for (name, answer) in [("less", less), ("least", least)] {
        let Some(possible) = endings(answer) else { continue };
        // A certain answer may rest on an assumption, which it names.
        if !covers(&possible, &truth) && rests_on_no_more(answer, whole) {
            let words: BTreeSet<String> = possible.iter().map(word).collect();
            return Some(format!("{name}: {words:?} leaves out {}: {:?}", word(&truth), truth));
        }
    }
    let (Some(few), Some(many)) = (endings(less), endings(least)) else { return None };
    let many: BTreeSet<String> = many.iter().map(word).collect();
    let added: Vec<String> = few.iter().map(word).filter(|word| !many.contains(word)).collect();
    let assumed = !rests_on_no_more(least, less);
    (!added.is_empty() && !assumed).then(|| format!("a fact that is given back adds {added:?} to {many:?}"))
}

#[test]
fn the_truth_is_among_what_is_possible_without_some_facts() {
    let told = |name: &str| std::env::var(name).ok().and_then(|text| text.parse::<u64>().ok());
    let acts = told("MIVASK_MISSING_ACTS").map_or(ACTS, |acts| usize::try_from(acts).unwrap());
    let seed = told("MIVASK_RANDOM_SEED").unwrap_or(SEED);
    let (mut asked, mut depends) = (0, 0);
    let mut failures: Vec<String> = Vec::new();
    for index in 0.. {
        if asked >= acts || failures.len() > 40 {
            break;
        }
        let kind = Kind::WEIGHTED[index % Kind::WEIGHTED.len()];
        let mut rng = Rng::with_seed(seed.wrapping_add((index as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15)));
        let scenario = generate(&mut rng, kind);
        let all: Vec<Act> = (0..40).map(|_| random_act(&mut rng, &scenario)).collect();
        let less = scenario.clone().forgetting(1 + index % 14, &mut rng);
        let least = less.clone().forgetting(1 + index % 25, &mut rng);
        let stages = [&scenario, &less, &least].map(|one: &Scenario| one.stage().unwrap());
        for act in &all {
            let [whole, fewer, fewest] = stages.each_ref().map(|stage| ask(stage, act).unwrap());
            if unsettled(&whole).is_some() {
                continue;
            }
            asked += 1;
            depends += usize::from(fewest.outcome == Outcome::Depends);
            if let Some(difference) = difference(&whole, &fewer, &fewest) {
                failures.push(format!("{difference}\n{}", least.with_comments(act, &[less.to_string()])));
            }
        }
    }
    let heads: Vec<String> =
        failures.iter().map(|one| one.lines().take(2).collect::<Vec<_>>().join("  ")).collect();
    let shown = failures.iter().min_by_key(|one| one.len()).map_or("", String::as_str);
    assert!(
        failures.is_empty(),
        "{} differences in {asked} acts:\n{}\nthe smallest:\n{shown}",
        failures.len(),
        heads.join("\n")
    );
    println!("{asked} acts without some facts: {depends} depend, none leaves out the truth");
    assert!(depends * 10 > asked, "too few answers depend: {depends} of {asked}");
}

/// The same stage, told by name: of every user and group but root only a name is known, one for each number.
fn told_by_name(stage: &Stage) -> Stage {
    let mut stage = stage.clone();
    for source in stage.source_ids().collect::<Vec<_>>() {
        let tree = Arc::make_mut(&mut stage.storage.source_mut(source).tree);
        for id in tree.ids().collect::<Vec<_>>() {
            let before = tree.doubt(id).cloned().unwrap_or_default();
            let DiskOwner { uid, gid } = tree.inode(id).stored_owner();
            if before.owner != Certainty::Known {
                continue;
            }
            let name =
                |letter: char, id: u32| (id != 0).then(|| Arc::from(format!("{letter}{id}").into_bytes()));
            let names = OwnerNames { user: name('u', uid.raw()), group: name('g', gid.raw()) };
            if names.user.is_some() || names.group.is_some() {
                let owner = Certainty::Unknown(Unknown::new("the number of a name", "tell it"));
                tree.set_doubt(id, Doubt { owner, names: Some(Arc::new(names)), ..before });
            }
        }
    }
    stage
}

#[test]
fn the_truth_is_among_what_is_possible_with_names_alone() {
    let (mut asked, mut depends, mut settled) = (0, 0, 0);
    let mut failures: Vec<String> = Vec::new();
    for index in 0..1_500 {
        let kind = Kind::WEIGHTED[index % Kind::WEIGHTED.len()];
        let mut rng = Rng::with_seed(SEED.wrapping_add((index as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15)));
        let scenario = generate(&mut rng, kind);
        let all: Vec<Act> = (0..40).map(|_| random_act(&mut rng, &scenario)).collect();
        let stage = scenario.stage().unwrap();
        let named = told_by_name(&stage);
        for act in &all {
            let (whole, less) = (ask(&stage, act).unwrap(), ask(&named, act).unwrap());
            let truth = endings(&whole).and_then(|all| all.into_iter().next());
            let (Some(truth), Some(possible), None) = (truth, endings(&less), unsettled(&whole)) else {
                continue;
            };
            asked += 1;
            depends += usize::from(less.outcome == Outcome::Depends);
            settled += usize::from(less.outcome != Outcome::Depends);
            if !covers(&possible, &truth) {
                let words: Vec<String> = possible.iter().map(word).collect();
                failures
                    .push(format!("{words:?} leaves out {truth:?}\n{}", scenario.with_comments(act, &[])));
            }
        }
    }
    let shown = failures.iter().min_by_key(|one| one.len()).map_or("", String::as_str);
    assert!(failures.is_empty(), "{} differences in {asked} acts, the smallest:\n{shown}", failures.len());
    println!("{asked} acts with names alone: {depends} depend, none leaves out the truth");
    assert!(depends * 20 > asked && settled * 3 > asked, "{depends} of {asked} depend");
}
