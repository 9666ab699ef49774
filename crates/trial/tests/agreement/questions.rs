//! Every question says the same of the same act: `ask`, `access`, a sweep of the whole tree, `admits`, expectations, a comparison
//! and a hand-off are held against each other, in random scenes with and without missing facts.

use std::collections::BTreeMap;

use fastrand::Rng;
use mivask_core::act::{Act, Expectation, Verb};
use mivask_core::carry::perform;
use mivask_core::expect::{Claim, Expected, Paths, Standing, Who, uphold};
use mivask_core::fact::Provenance;
use mivask_core::glob::{Globs, Matcher, PatternError};
use mivask_core::handoff::{Use, handoffs};
use mivask_core::held::Held;
use mivask_core::ids::{InsideGid, InsideUid};
use mivask_core::mode::{FileKind, Mode};
use mivask_core::question::{
    Answer, Cell, CellOutcome, Column, Condition, Event, access, admissions, ask, contrast, follow, free_path,
};
use mivask_core::settle::Outcome;
use mivask_core::stage::{Actor, Stage};
use mivask_trial::scenario::{Kind, Scenario, generate};

/// How many answers are compared, unless `MIVASK_QUESTIONS` says otherwise.
const QUESTIONS: usize = 100_000;
/// Where they start, unless `MIVASK_RANDOM_SEED` says otherwise.
const SEED: u64 = 0x5eed_7101;

/// Every path is meant literally.
#[derive(Debug)]
struct Literal;

impl Globs for Literal {
    fn matcher(&self, pattern: &[u8]) -> Result<Matcher, PatternError> {
        let pattern = pattern.to_vec();
        Ok(Box::new(move |path| *path == *pattern))
    }
}

/// What was compared, and what differed.
#[derive(Default)]
struct Tally {
    compared: BTreeMap<&'static str, usize>,
    differ: Vec<String>,
}

impl Tally {
    fn hold(&mut self, question: &'static str, same: bool, words: impl FnOnce() -> String) {
        *self.compared.entry(question).or_default() += 1;
        if !same {
            self.differ.push(format!("{question}: {}", words()));
        }
    }

    fn all(&self) -> usize {
        self.compared.values().sum()
    }
}

fn act(actor: &Actor, verb: Verb, path: &[u8]) -> Act {
    Act { actor: actor.name.to_string(), verb, path: path.to_vec(), expectation: None }
}

/// The act that a column asks about, for something of that kind.
fn meant(stage: &Stage, actor: &Actor, column: Column, path: &[u8], directory: bool) -> Act {
    let new = Verb::Creates(Mode::new(0o666));
    match column {
        Column::Read => act(actor, Verb::Reads, path),
        Column::Write => act(actor, Verb::Writes, path),
        Column::Create if directory => act(actor, new, &free_path(stage, actor, path)),
        Column::Create => act(actor, new, path),
        Column::Delete if directory => act(actor, Verb::RemovesDirectory, path),
        Column::Delete => act(actor, Verb::Deletes, path),
        Column::List => act(actor, Verb::Lists, path),
        Column::Enter => act(actor, Verb::Enters, path),
        Column::Run => act(actor, Verb::Runs, path),
    }
}

/// Whether one cell of a sweep is the answer; one that is open does not say among which outcomes.
fn is_of(cell: Cell, answer: &Answer) -> bool {
    match cell {
        Cell::Void => true,
        Cell::Allowed => answer.outcome == Outcome::Allowed,
        Cell::Denied(errno) => answer.outcome == Outcome::Denied(Some(errno)),
        Cell::Open => !answer.depends_on.is_empty(),
    }
}

fn paths(stage: &Stage, actor: &Actor) -> Vec<(Vec<u8>, FileKind, [Cell; 7])> {
    let mut all = Vec::new();
    let swept = follow(stage, actor, 0, b"/", |event| {
        if let Event::Entry(entry) = event {
            all.push((entry.path.to_vec(), entry.kind, Column::ALL.map(|column| entry.cell(column))));
        }
    });
    drop(swept);
    all
}

fn one(held: &mut Tally, stage: &Stage, actor: &Actor, scene: &Scenario) {
    let shown = |act: &Act| format!("{act}\n{scene}");
    for (path, kind, cells) in paths(stage, actor) {
        for (column, cell) in Column::ALL.into_iter().zip(cells) {
            let directory = kind == FileKind::Directory;
            let asked = meant(stage, actor, column, &path, directory);
            // Where the directory of a new name is not listed, the name may be there: the column asks for one that is free.
            let answer = ask(stage, &asked).expect("the actor");
            if column != Column::Create || answer.depends_on.is_empty() || cell == Cell::Open {
                held.hold("access --tree", is_of(cell, &answer), || {
                    format!("{cell:?}, asked {:?}: {}", answer.outcome, shown(&asked))
                });
            }
        }
        row(held, stage, actor, &path, scene);
    }
    for path in [&b"/nothing"[..], b"/b/nothing", b"/a/b/../c"] {
        row(held, stage, actor, path, scene);
    }
}

/// The row of a path, the expectation that says the same, and whom the path admits.
fn row(held: &mut Tally, stage: &Stage, actor: &Actor, path: &[u8], scene: &Scenario) {
    let row = access(stage, actor, path);
    let link = row.facts.is_some_and(|facts| facts.kind == FileKind::Link);
    let directory = row.facts.is_some_and(|facts| facts.kind == FileKind::Directory);
    for (column, outcome) in row.cells.iter() {
        let Some(outcome) = outcome else { continue };
        // Of what may be a directory or a file, each column asks what it means for one of them.
        if row.facts.is_none() && !row.missing && column == Column::Create {
            continue;
        }
        let asked = meant(stage, actor, column, path, directory);
        if column == Column::Delete {
            // The name goes, and a link to a directory is no directory.
            let deleted = ask(stage, &act(actor, Verb::Deletes, path)).expect("the actor");
            let removed = ask(stage, &act(actor, Verb::RemovesDirectory, path)).expect("the actor");
            let same = [&deleted, &removed].iter().any(|answer| answer.outcome == *outcome);
            held.hold("access", same, || format!("delete {outcome:?}: {asked}\n{scene}"));
            continue;
        }
        let answer = ask(stage, &asked).expect("the actor");
        let free = column == Column::Create && directory && !answer.depends_on.is_empty();
        held.hold("access", free || answer.outcome == *outcome, || {
            format!("{outcome:?}, asked {:?}: {asked}\n{scene}", answer.outcome)
        });
        expected(held, stage, &answer, scene);
        if link || free {
            continue;
        }
        for admission in admissions(stage, &[actor], path, column) {
            let mine =
                |all: &[Condition]| all.iter().any(|one| one.actors.iter().any(|name| **name == *actor.name));
            let kept_out = admission.except.iter().any(|one| is_met(one, actor));
            let certain = admission.depends_on.is_empty() && answer.depends_on.is_empty();
            let inside = mine(&admission.conditions) || admission.anybody && !kept_out;
            let allowed = answer.outcome == Outcome::Allowed;
            // Whom everybody but these may follow may have a capability, too.
            let capable = kept_out && allowed && !actor.credentials[0].effective.is_empty();
            let open = !certain || admission.cut_short || capable;
            held.hold("admits", open || inside == allowed, || {
                format!("gets in: {inside}, asked {:?}: {asked}\n{admission:?}\n{scene}", answer.outcome)
            });
        }
    }
}

fn is_met(condition: &Condition, actor: &Actor) -> bool {
    let is = |uid, groups: &[InsideGid]| has(actor, uid, groups);
    is(condition.uid, &condition.groups) && !condition.unless.iter().any(|ids| is(ids.uid, &ids.groups))
}

fn has(actor: &Actor, uid: Option<InsideUid>, groups: &[InsideGid]) -> bool {
    let who = &actor.credentials[0];
    let uid = uid.is_none_or(|uid| who.inside_uid() == Some(Held::Id(uid)));
    let member = |gid: &InsideGid| {
        let gid = who.namespace.to_kernel_gid(*gid);
        gid.is_some_and(|gid| who.fsgid.is(gid) || who.groups.contains(&gid))
    };
    uid && groups.iter().all(member)
}

/// An expectation of exactly the answer holds, and that it never happens holds where it is denied.
fn expected(held: &mut Tally, stage: &Stage, answer: &Answer, scene: &Scenario) {
    let act = &answer.act;
    let who = Who { names: vec![act.actor.clone()], except: Vec::new() };
    let paths = Paths { pattern: act.path.clone(), except: Vec::new() };
    let mut upheld = |claim: Claim, wanted: Standing| {
        let text = act.to_string();
        let expected = Expected { claim, text, from: Provenance::rule("a test"), unnamed: false };
        let standing = uphold(stage, &expected, &Literal).expect("no pattern").standing;
        held.hold("uphold", standing == wanted, || {
            format!("{standing:?}, wanted {wanted:?}, asked {:?}: {act}\n{scene}", answer.outcome)
        });
    };
    let (expectation, wanted) = match answer.outcome {
        Outcome::Allowed => (Expectation::Allowed, Standing::Holds),
        Outcome::Denied(errno) => (Expectation::Denied(errno), Standing::Holds),
        Outcome::Depends => (Expectation::Allowed, Standing::Depends),
        Outcome::NeverRuns(_) => return,
    };
    let (each, verb) = (paths.clone(), act.verb.clone());
    upheld(Claim::Each { who: who.clone(), verb: verb.clone(), paths: each, expectation }, wanted);
    // Of a directory `never` asks what a verb means for one.
    let plain = matches!(verb, Verb::Lists | Verb::Enters | Verb::RemovesDirectory);
    let wanted = match answer.outcome {
        Outcome::Allowed => Standing::Broken,
        Outcome::Denied(_) => Standing::Holds,
        Outcome::Depends | Outcome::NeverRuns(_) => Standing::Depends,
    };
    if plain && !matches!(answer.outcome, Outcome::Denied(_)) {
        upheld(Claim::Never { who, verb, paths }, wanted);
    }
}

/// What a comparison says of both sides is what is asked of each.
fn compared(held: &mut Tally, (before, after): (&Stage, &Stage), scene: &Scenario) {
    let (then, now) = (&before.actors[0], &after.actors[0]);
    let changes = contrast((before, then), (after, now), &[b"/".to_vec()]);
    for change in changes.opened.iter().chain(&changes.closed).chain(&changes.other) {
        for path in &change.paths {
            for (stage, actor, outcome) in [(before, then, change.before), (after, now, change.after)] {
                let row = access(stage, actor, path);
                let same = match (row.cells.of(change.column), outcome) {
                    // For a path where nothing is, a row says whether it can be made.
                    (_, CellOutcome::Void) if row.missing => true,
                    (Some(Outcome::Allowed), outcome) => outcome == CellOutcome::Allowed,
                    (Some(Outcome::Denied(Some(errno))), CellOutcome::Denied(said)) => said == Some(*errno),
                    // A sweep does not say of what is open among which outcomes.
                    (Some(Outcome::Denied(None) | Outcome::Depends), outcome) => {
                        matches!(outcome, CellOutcome::Depends | CellOutcome::Denied(None))
                    }
                    (Some(Outcome::Denied(_) | Outcome::NeverRuns(_)), _) => false,
                    (None, _) => true,
                };
                held.hold("compare", same, || {
                    let column = change.column;
                    format!("{outcome:?}, access {:?}, {column:?}\n{row:?}\n{scene}", row.cells.of(column))
                });
            }
        }
    }
}

/// What a hand-off says is what is asked once the file has been made.
fn handed(held: &mut Tally, stage: &Stage, scene: &str) {
    for handoff in handoffs(stage, &[]) {
        for creation in &handoff.creations {
            let at = |name: &str| {
                let member = handoff.members.iter().find(|(member, _)| member == name);
                member.map(|(_, path)| path.clone()).expect("a member")
            };
            let creator = stage.actor(&creation.creator).expect("the creator");
            let free = free_path(stage, creator, &at(&creation.creator));
            let mut stage = stage.clone();
            let performed = perform(
                &mut stage,
                &Act {
                    actor: creation.creator.clone(),
                    verb: Verb::Creates(Mode::new(0o666)),
                    path: free.clone(),
                    expectation: None,
                },
            );
            let made = performed.expect("the creator").answer.outcome;
            held.hold("handoff", made == creation.creates.outcome, || {
                format!("creates {:?}, asked {made:?}\n{scene}", creation.creates.outcome)
            });
            if made != Outcome::Allowed {
                continue;
            }
            let name = free.rsplit(|byte| *byte == b'/').next().expect("a name").to_vec();
            for consumer in &creation.consumers {
                let Some(uses) = &consumer.file else { continue };
                let path = [at(&consumer.consumer).as_slice(), b"/", &name].concat();
                for (wanted, verb) in
                    [(Use::Read, Verb::Reads), (Use::Change, Verb::Writes), (Use::Delete, Verb::Deletes)]
                {
                    let asked =
                        Act { actor: consumer.consumer.clone(), verb, path: path.clone(), expectation: None };
                    let outcome = ask(&stage, &asked).expect("the consumer").outcome;
                    held.hold("handoff", uses.of(wanted).outcome == outcome, || {
                        format!("{:?}, asked {outcome:?}: {asked}\n{scene}", uses.of(wanted).outcome)
                    });
                }
            }
        }
    }
}

#[test]
fn every_question_has_the_same_answer() {
    let told = |name: &str| std::env::var(name).ok().and_then(|text| text.parse::<u64>().ok());
    let wanted = told("MIVASK_QUESTIONS").map_or(QUESTIONS, |count| usize::try_from(count).unwrap());
    let seed = told("MIVASK_RANDOM_SEED").unwrap_or(SEED);
    let mut held = Tally::default();
    for index in 0.. {
        if held.all() >= wanted || held.differ.len() > 40 {
            break;
        }
        let kind = Kind::WEIGHTED[index % Kind::WEIGHTED.len()];
        let mut rng = Rng::with_seed(seed.wrapping_add((index as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15)));
        let scenario = generate(&mut rng, kind);
        let less = scenario.clone().forgetting(1 + index % 8, &mut rng);
        let (whole, fewer) = (scenario.stage().unwrap(), less.stage().unwrap());
        let (stage, scene) = if index % 2 == 0 { (&whole, &scenario) } else { (&fewer, &less) };
        one(&mut held, stage, &stage.actors[0], scene);
        compared(&mut held, (&fewer, &whole), &scenario);
        let (two, text) = scenario.with_another().unwrap();
        handed(&mut held, &two, &text);
    }
    let shown: Vec<&str> = held.differ.iter().map(|one| one.lines().next().unwrap_or_default()).collect();
    let smallest = held.differ.iter().min_by_key(|one| one.len());
    assert!(held.differ.is_empty(), "{} differ:\n{}\n{}", shown.len(), shown.join("\n"), smallest.unwrap());
    println!("{} answers compared, none differs: {:?}", held.all(), held.compared);
    for question in ["access", "access --tree", "admits", "uphold", "compare", "handoff"] {
        assert!(
            held.compared.get(question).is_some_and(|count| *count > 500),
            "{question}: {:?}",
            held.compared
        );
    }
}
