//! Denied situations and the remedy that an experienced engineer would choose first: `table.md` says which and why.
//!
//! Each first remedy is made on the model again by its sentences alone, and where the kernel can be asked, the kernel
//! has to let the act succeed too.

mod order;
mod random;

use std::collections::{BTreeMap, BTreeSet};

use mivask_core::act::{Act, parse_act};
use mivask_core::change::{Changes, parse_change};
use mivask_core::prepare;
use mivask_core::question::{Answer, Comparison, ask};
use mivask_core::remedy::{Made, Remedies, Situation, lasting, remedies, together};
use mivask_core::scene::Scene;
use mivask_core::settle::Outcome;
use mivask_kernel::{Bench, Choice, unavailable};
use mivask_trial::hold::hold;

use crate::support::{scene, skipped};

const TABLE: &str = include_str!("table.md");

/// One row: scene, act, errno, first remedy, why.
struct Row<'a> {
    scene: &'a str,
    act: &'a str,
    ends: &'a str,
    first: &'a str,
}

fn rows() -> Vec<Row<'static>> {
    let cells = TABLE.lines().filter(|line| line.starts_with("| ")).map(|line| {
        line.trim_matches('|').split(" | ").map(|cell| cell.trim().trim_matches('`')).collect::<Vec<_>>()
    });
    let rows = cells.filter(|cells| cells.len() == 5 && !cells[0].starts_with("---") && cells[0] != "scene");
    rows.map(|cells| {
        assert!(cells[4].len() > 10, "a reason for {}", cells[1]);
        Row { scene: cells[0], act: cells[1], ends: cells[2], first: cells[3] }
    })
    .collect()
}

fn found(scene: &Scene, act: &str) -> Remedies {
    if let Some(made) = Made::parse(act, None) {
        return lasting(&Situation::new(scene, &Changes::new(Vec::new())), &made.expect(act)).expect(act);
    }
    remedies(&Situation::new(scene, &Changes::new(Vec::new())), &parse_act(act).expect(act)).expect(act)
}

/// The changes of the first remedy, or what is said where there is none.
fn first(found: &Remedies) -> String {
    match found.remedies.first() {
        Some(remedy) => {
            let changes: Vec<String> = remedy.steps.iter().map(|step| step.change.to_string()).collect();
            changes.join("; ")
        }
        None => "none".to_owned(),
    }
}

#[test]
fn the_first_remedy_is_the_one_an_engineer_would_choose() {
    let mut scenes: BTreeMap<&str, Scene> = BTreeMap::new();
    let mut errnos: BTreeSet<String> = BTreeSet::new();
    let mut wrong = Vec::new();
    let all = rows();
    for row in &all {
        let scene = scenes
            .entry(row.scene)
            .or_insert_with(|| scene(&format!("tests/agreement/remedies/{}.scene.yaml", row.scene)));
        let found = found(scene, row.act);
        let ends = match &found.answer.outcome {
            Outcome::Denied(Some(errno)) => errno.name().to_owned(),
            other @ (Outcome::Allowed | Outcome::Denied(None) | Outcome::Depends | Outcome::NeverRuns(_)) => {
                other.word().to_owned()
            }
        };
        errnos.insert(ends.clone());
        let first = first(&found);
        if (ends.as_str(), first.as_str()) != (row.ends, row.first) {
            let others: Vec<String> = found
                .remedies
                .iter()
                .take(4)
                .map(|remedy| {
                    let changes: Vec<String> =
                        remedy.steps.iter().map(|step| step.change.to_string()).collect();
                    format!(
                        "    {:?} {} (opens {}, closes {})",
                        remedy.rank.marks().iter().map(|mark| mark.name()).collect::<Vec<_>>(),
                        changes.join("; "),
                        remedy.opens(),
                        remedy.closed.len()
                    )
                })
                .collect();
            wrong.push(format!("{} | {} | {ends} | {first}\n{}", row.scene, row.act, others.join("\n")));
        }
        if found.remedies.is_empty() {
            assert!(
                found.hint.is_some() || found.besides.is_some(),
                "{}: no remedy, and no word on why",
                row.act
            );
        }
        for remedy in &found.remedies {
            let text = remedy.steps.iter().map(|step| format!("{} ", step.change)).collect::<String>();
            assert!(!text.contains("777") && !text.contains("o+w"), "{}: {text}", row.act);
        }
    }
    assert!(wrong.is_empty(), "{} of {} rows:\n{}", wrong.len(), all.len(), wrong.join("\n"));
    assert!(all.len() >= 130, "{} rows", all.len());
    for errno in mivask_core::outcome::Errno::ALL {
        assert!(errnos.contains(errno.name()), "no row ends with {errno}");
    }
}

/// Whether an act succeeds and leaves what is expected of it.
fn is_reached(answer: &Answer) -> bool {
    answer.outcome == Outcome::Allowed && answer.holds() != Some(false)
}

#[test]
fn one_set_of_changes_for_every_act_of_a_scene() {
    let mut acts: BTreeMap<&str, Vec<Act>> = BTreeMap::new();
    for row in rows() {
        if let Ok(act) = parse_act(row.act) {
            acts.entry(row.scene).or_default().push(act);
        }
    }
    let mut mended = 0;
    for (name, acts) in acts {
        let told = scene(&format!("tests/agreement/remedies/{name}.scene.yaml"));
        let found = together(&Situation::new(&told, &Changes::new(Vec::new())), &acts)
            .expect("actors that are there");
        let steps = found.remedy.map(|remedy| remedy.steps).unwrap_or_default();
        let reached = |without: Option<usize>| -> Vec<bool> {
            let kept = steps.iter().enumerate().filter(|(at, _)| Some(*at) != without);
            let changes = Changes::new(kept.map(|(_, step)| step.change.clone()).collect());
            let mut scene = told.clone();
            // Without one of them another may not be possible any more.
            if changes.apply_to_scene(&mut scene).is_err() {
                return Vec::new();
            }
            let mut stage = prepare::stage(&scene);
            if changes.apply_to_files(&mut stage).is_err() {
                return Vec::new();
            }
            acts.iter().map(|act| is_reached(&ask(&stage, act).expect("an actor"))).collect()
        };
        let whole = reached(None);
        let refused: Vec<&Act> = found.left.iter().map(|(answer, _)| &answer.act).collect();
        for (act, allowed) in acts.iter().zip(&whole) {
            assert_eq!(*allowed, !refused.contains(&act), "{name}: {act}");
        }
        for (at, step) in steps.iter().enumerate() {
            assert_ne!(reached(Some(at)), whole, "{name}: {} is needless", step.change);
        }
        let before = found.answers.iter().filter(|answer| is_reached(answer)).count();
        mended += acts.len() - before - refused.len();
    }
    assert!(mended >= 60, "{mended}");
}

#[test]
fn every_remedy_holds_by_its_sentences_alone_and_on_the_kernel() {
    let bench = match unavailable() {
        Some(reason) => {
            skipped("remedies on the kernel", &reason);
            None
        }
        None => Some(Bench::new(Choice::AsTold).unwrap()),
    };
    let (mut asked, mut agreed) = (0, 0);
    for row in rows() {
        let told = scene(&format!("tests/agreement/remedies/{}.scene.yaml", row.scene));
        let made = Made::parse(row.act, None).map(Result::unwrap);
        for remedy in found(&told, row.act).remedies {
            let sentences: Vec<String> = remedy.steps.iter().map(|step| step.change.to_string()).collect();
            let changes = sentences.iter().map(|text| parse_change(text).unwrap()).collect();
            let changes = Changes::new(changes);
            let mut scene = told.clone();
            changes.apply_to_scene(&mut scene).unwrap();
            if let Some(made) = &made {
                // Files that are handed over are made on the kernel by the tests of the program.
                let again = lasting(&Situation::new(&scene, &changes), made).unwrap();
                assert_eq!(again.answer.outcome, Outcome::Allowed, "{}: {sentences:?}", row.act);
                continue;
            }
            let act = parse_act(row.act).unwrap();
            let mut stage = prepare::stage(&scene);
            changes.apply_to_files(&mut stage).unwrap();
            let answer = ask(&stage, &act).unwrap();
            // Scratch space in an image that nobody described, as it says.
            if remedy.answer.outcome == Outcome::Depends {
                assert!(remedy.notes.iter().any(|note| note.contains("depends on")), "{}", row.act);
                continue;
            }
            assert_eq!(answer.outcome, Outcome::Allowed, "{}: {sentences:?}", row.act);
            let Some(bench) = &bench else { continue };
            asked += 1;
            match hold(&stage, vec![answer], bench).unwrap().remove(0).result {
                Comparison::Same(_) => agreed += 1,
                Comparison::NotChecked(_) => {}
                Comparison::Different(observed) => {
                    panic!("{}: after {sentences:?} the kernel says {observed:?}", row.act)
                }
            }
        }
    }
    println!("{agreed} of {asked} remedies hold on the kernel, the others cannot be built here");
    assert!(bench.is_none() || agreed > 100, "{agreed} of {asked}");
}
