//! What holds in any scenario, whatever the kernel says: no privilege is needed here.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::collections::BTreeSet;

use fastrand::Rng;
use mivask_core::act::{Act, Expectation, Verb, parse_act};
use mivask_core::expect::{Claim, Expected, Paths, Who, uphold};
use mivask_core::fact::Provenance;
use mivask_core::glob::{Globs, Matcher, PatternError};
use mivask_core::mode::FileKind;
use mivask_core::question::{
    Cell, CellOutcome, Column, PerColumn, access, ask, contrast, facts_at, imprints, sweep,
};
use mivask_core::settle::Outcome;
use mivask_core::stage::Stage;
use mivask_trial::scenario::{CAPABILITIES, Kind, Scenario, generate, random_act};

use crate::support::stage_of;

const SCENARIOS: usize = 150;

/// Each random scenario with some acts.
fn scenarios(seed: u64, mut check: impl FnMut(&Scenario, &Stage, &[Act])) {
    let mut rng = Rng::with_seed(seed);
    for index in 0..SCENARIOS {
        let scenario = generate(&mut rng, Kind::ALL[index % Kind::ALL.len()]);
        let acts: Vec<Act> = (0..40).map(|_| random_act(&mut rng, &scenario)).collect();
        check(&scenario, &scenario.stage().unwrap(), &acts);
    }
}

fn outcome(stage: &Stage, act: &Act) -> Outcome {
    ask(stage, act).unwrap().outcome
}

/// What was allowed before is allowed after.
fn opens_only(before: &Stage, after: &Stage, acts: &[Act], scenario: &Scenario) {
    for act in acts.iter().filter(|act| outcome(before, act) == Outcome::Allowed) {
        assert_eq!(outcome(after, act), Outcome::Allowed, "{act}\n{scenario}");
    }
}

/// Ordinary ids are names: giving everyone a new one changes no outcome.
#[test]
fn renumbered_ids_change_nothing() {
    let renumbered = |text: &str| {
        let ids =
            [("8101", "38101"), ("8102", "18102"), ("8200", "28200"), ("8300", "908300"), ("8900", "58900")];
        ids.iter().fold(text.to_owned(), |text, (old, new)| text.replace(old, new))
    };
    scenarios(1, |scenario, before, acts| {
        if !scenario.maps_nothing() {
            return;
        }
        let after = stage_of(&renumbered(&scenario.to_string()));
        for act in acts {
            let same = parse_act(&renumbered(&act.to_string())).unwrap();
            assert_eq!(outcome(before, act), outcome(&after, &same), "{act}\n{scenario}");
        }
    });
}

/// A capability opens doors and closes none. (A group may: it can take what `other` had.)
#[test]
fn more_capabilities_never_deny() {
    scenarios(2, |scenario, before, acts| {
        let after = scenario.clone().with_capabilities(None).stage().unwrap();
        opens_only(before, &after, acts, scenario);
    });
}

/// The same one by one: what is allowed without a capability is allowed with it.
#[test]
fn a_removed_capability_never_allows_more() {
    scenarios(8, |scenario, _, acts| {
        for removed in CAPABILITIES {
            let others = CAPABILITIES.into_iter().filter(|name| *name != removed).collect();
            let without = scenario.clone().with_capabilities(Some(others)).stage().unwrap();
            let with = scenario.clone().with_capabilities(Some(CAPABILITIES.to_vec())).stage().unwrap();
            opens_only(&without, &with, acts, scenario);
        }
    });
}

/// Read for everyone, and search on directories, open doors and close none. (More for one class may: the owner's
/// bits hide those of the group; and write for all turns a sticky directory into one where protected files
/// count.)
#[test]
fn widened_bits_never_deny_more() {
    scenarios(9, |scenario, _, acts| {
        let plain = scenario.clone().without("acl").without("default-acl");
        let wide = plain.clone().with_modes(|directory, mode| mode | if directory { 0o555 } else { 0o444 });
        let (before, after) = (plain.stage().unwrap(), wide.stage().unwrap());
        for act in acts.iter().filter(|act| !matches!(act.verb, Verb::Renames(_))) {
            // A walk that gets further may find that two names are on different mounts, or one file.
            opens_only(&before, &after, std::slice::from_ref(act), scenario);
        }
    });
}

/// Fewer bits in the umask never change whether something can be done, only what it looks like.
#[test]
fn the_umask_changes_no_outcome() {
    scenarios(3, |scenario, before, acts| {
        let after = scenario.clone().with_umask("0000").stage().unwrap();
        for act in acts {
            assert_eq!(outcome(before, act), outcome(&after, act), "{act}\n{scenario}");
        }
    });
}

/// A read-only mount denies every change and nothing else.
#[test]
fn read_only_mounts_deny_changes_only() {
    scenarios(4, |scenario, before, acts| {
        let after = scenario.clone().read_only().stage().unwrap();
        for act in acts {
            let (was, is) = (outcome(before, act), outcome(&after, act));
            let looks = matches!(
                act.verb,
                Verb::Inspects | Verb::InspectsLink | Verb::Reads | Verb::Runs | Verb::Lists | Verb::Enters
            );
            assert!(!looks || was == is, "{act}: {was:?} {is:?}\n{scenario}");
            assert!(is != Outcome::Allowed || was == Outcome::Allowed, "{act}: {was:?} {is:?}\n{scenario}");
        }
    });
}

/// The matrix says what single acts say.
#[test]
fn the_matrix_agrees_with_single_acts() {
    scenarios(5, |scenario, stage, acts| {
        let actor = &stage.actors[0];
        for path in acts.iter().map(|act| &act.path) {
            let row = access(stage, actor, path);
            let single = |verb| {
                outcome(stage, &Act { actor: "x".into(), verb, path: path.clone(), expectation: None })
            };
            let cells = [
                (Verb::Reads, row.cells.of(Column::Read)),
                (Verb::Writes, row.cells.of(Column::Write)),
                (Verb::Lists, row.cells.of(Column::List)),
                (Verb::Enters, row.cells.of(Column::Enter)),
                (Verb::Runs, row.cells.of(Column::Run)),
            ];
            for (verb, cell) in cells.iter().filter_map(|(verb, cell)| Some((verb.clone(), cell.as_ref()?))) {
                assert_eq!(
                    *cell,
                    single(verb.clone()),
                    "{} {}\n{scenario}",
                    verb.word(),
                    String::from_utf8_lossy(path)
                );
            }
        }
    });
}

/// What `imprint` promises of a directory is what creating there leaves.
#[test]
fn imprints_agree_with_creating() {
    scenarios(6, |scenario, stage, acts| {
        let actor = &stage.actors[0];
        for path in acts.iter().map(|act| &act.path) {
            if facts_at(stage, actor, path).is_none_or(|facts| facts.kind != FileKind::Directory) {
                continue;
            }
            let rows = imprints(stage, actor, std::slice::from_ref(path));
            let below = String::from_utf8([path.as_slice(), b"/zz"].concat()).unwrap();
            for (row, verb) in rows.iter().zip(["creates", "makes-directory"]) {
                let answer = ask(stage, &parse_act(&format!("x {verb} {below}")).unwrap()).unwrap();
                assert_eq!(row.outcome, answer.outcome, "{below}\n{scenario}");
                assert_eq!(row.imprint, answer.effect.imprint, "{below}\n{scenario}");
            }
        }
    });
}

/// Every act that is denied says by which check, and the last step is the one that failed.
#[test]
fn a_denial_names_its_check() {
    scenarios(7, |scenario, stage, acts| {
        for act in acts {
            let answer = ask(stage, act).unwrap();
            let failed = answer.steps.last().map(|step| step.result);
            let expected = answer.outcome.errno().map(mivask_core::trace::StepResult::Failed);
            assert!(expected.is_none() || failed == expected, "{act}: {failed:?}, {expected:?}\n{scenario}");
        }
    });
}

/// A sweep over everything says what single questions say.
#[test]
fn a_sweep_agrees_with_the_matrix() {
    let mut rows = 0;
    scenarios(10, |scenario, stage, _| {
        let actor = &stage.actors[0];
        let swept = sweep(stage, actor, b"/", |swept| {
            let row = access(stage, actor, swept.path);
            // A question follows links, a sweep mentions the link itself.
            let columns = if swept.kind == FileKind::Link { 2 } else { Column::ALL.len() };
            for (column, single) in row.cells.iter().take(columns) {
                let cell = swept.cell(column);
                let single = match single {
                    None => Cell::Void,
                    Some(Outcome::Allowed) => Cell::Allowed,
                    Some(Outcome::Denied(Some(errno))) => Cell::Denied(*errno),
                    Some(other) => panic!("{other:?}"),
                };
                let link = swept.kind == FileKind::Link && single == Cell::Void;
                assert!(link || cell == single, "{swept:?} {row:?}\n{scenario}");
            }
            rows += 1;
        });
        assert_eq!(swept, Ok(()), "{scenario}");
    });
    assert!(rows > 2_000, "{rows}");
}

/// Takes one answer of a row.
type Picking = fn(&PerColumn<Option<Outcome>>) -> Option<&Outcome>;

/// Every path, which is all that the expectations below ask for.
#[derive(Debug)]
pub(crate) struct Everything;

impl Globs for Everything {
    fn matcher(&self, _: &[u8]) -> Result<Matcher, PatternError> {
        Ok(Box::new(|_| true))
    }
}

/// An expectation about everything stands as the single acts do that `access` mentions.
#[test]
fn expectations_stand_by_single_acts() {
    let (mut never, mut each) = (BTreeSet::new(), BTreeSet::new());
    let mut against = 0;
    scenarios(12, |scenario, stage, _| {
        let actor = &stage.actors[0];
        let (mut links, mut rows) = (Vec::new(), vec![access(stage, actor, b"/")]);
        let swept = sweep(stage, actor, b"/", |swept| {
            if swept.kind == FileKind::Link {
                links.push(swept.path.to_vec());
            } else {
                rows.push(access(stage, actor, swept.path));
            }
        });
        assert_eq!(swept, Ok(()), "{scenario}");
        let questions: [(Verb, Picking); 6] = [
            (Verb::Reads, |cells| cells.of(Column::Read).as_ref().or(cells.of(Column::List).as_ref())),
            (Verb::Writes, |cells| cells.of(Column::Write).as_ref().or(cells.of(Column::Create).as_ref())),
            (Verb::Deletes, |cells| cells.of(Column::Delete).as_ref()),
            (Verb::Lists, |cells| cells.of(Column::List).as_ref()),
            (Verb::Enters, |cells| cells.of(Column::Enter).as_ref()),
            (Verb::Runs, |cells| cells.of(Column::Run).as_ref()),
        ];
        for (verb, cell) in questions {
            let cells: Vec<&Outcome> = rows.iter().filter_map(|row| cell(&row.cells)).collect();
            let allowed = cells.iter().filter(|cell| **cell == &Outcome::Allowed).count();
            let who = Who { names: vec!["*".to_owned()], except: Vec::new() };
            let paths = Paths { pattern: b"/**".to_vec(), except: links.clone() };
            let all = Claim::Each {
                who: who.clone(),
                verb: verb.clone(),
                paths: paths.clone(),
                expectation: Expectation::Allowed,
            };
            let none = Claim::Never { who, verb: verb.clone(), paths };
            for (claim, wrong, seen) in [(all, cells.len() - allowed, &mut each), (none, allowed, &mut never)]
            {
                let expected =
                    Expected { claim, text: String::new(), from: Provenance::rule("a test"), unnamed: false };
                let held = uphold(stage, &expected, &Everything).unwrap();
                assert_eq!(held.checked, cells.len(), "{verb:?}\n{scenario}");
                assert_eq!(held.against.len() + held.more, wrong, "{verb:?} {:?}\n{scenario}", held.against);
                against += wrong;
                seen.insert(held.standing);
            }
        }
    });
    // Each claim stood and fell, and much was found against them.
    assert!(never.len() >= 2 && each.len() >= 2 && against > 3_000, "{never:?} {each:?} {against}");
}

/// What `access` says of one path, as the comparison has it.
fn outcomes(stage: &Stage, path: &[u8]) -> PerColumn<CellOutcome> {
    access(stage, &stage.actors[0], path).cells.map(|cell| match cell {
        None => CellOutcome::Void,
        Some(Outcome::Allowed) => CellOutcome::Allowed,
        Some(Outcome::Denied(errno)) => CellOutcome::Denied(*errno),
        Some(Outcome::Depends) => CellOutcome::Depends,
        Some(Outcome::NeverRuns(_)) => CellOutcome::Never,
    })
}

/// Whatever a comparison tells is the difference of what `access` says on both sides, path by path.
#[test]
fn a_comparison_is_the_difference_of_two_matrices() {
    let mut told = 0;
    let changes: [fn(Scenario) -> Scenario; 4] = [
        |scenario| {
            scenario.with_modes(|directory, mode| if directory { mode | 0o011 } else { mode & !0o200 })
        },
        |scenario| scenario.with_capabilities(None),
        Scenario::read_only,
        |scenario| scenario.with_umask("0777"),
    ];
    scenarios(11, |scenario, before, _| {
        for change in changes {
            let after = change(scenario.clone()).stage().unwrap();
            let contrast = contrast((before, &before.actors[0]), (&after, &after.actors[0]), &[]);
            let rows: Vec<_> = [contrast.opened, contrast.closed, contrast.other].concat();
            for row in &rows {
                for path in &row.paths {
                    let (was, is) = (outcomes(before, path), outcomes(&after, path));
                    let (was, is) = (*was.of(row.column), *is.of(row.column));
                    // `access` asks about what a link points at, a listing about the link.
                    if was == CellOutcome::Void && is == CellOutcome::Void {
                        continue;
                    }
                    assert_eq!(
                        (was, is),
                        (row.before, row.after),
                        "{} {:?}\n{scenario}",
                        path.escape_ascii(),
                        row.column
                    );
                    told += 1;
                }
            }
        }
    });
    assert!(told > 1000, "{told} differences were told");
}
