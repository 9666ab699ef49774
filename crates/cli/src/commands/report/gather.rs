//! All that is on the page.

use std::collections::{BTreeMap, BTreeSet};

use mivask_core::act::{Act, Verb};
use mivask_core::expect::{AcceptDepends, uphold};
use mivask_core::exposure::exposure;
use mivask_core::mode::{FileKind, Mode};
use mivask_core::outcome::Errno;
use mivask_core::question::{
    AccessRow, Answer, Column, access, ask, ask_as, default_rows, free_path, mounts, remarks,
};
use mivask_core::remedy::{Situation, remedies_of_each};
use mivask_core::settle::Outcome;
use mivask_core::stage::{Actor, Stage};
use mivask_core::trace::{Check, StepResult};
use mivask_show::report::{Denied, Open, Report};
use mivask_show::upheld::{Checked, Run};

use crate::change::Patterns;
use crate::commands::remedy::paste::Texts;
use crate::commands::uphold::check::own_expectations;
use crate::commands::uphold::error::Misread;
use crate::end::Failure;
use crate::load::Whole;
use crate::options::Input;

/// Reasons that are drawn; more are counted.
const MOST_DRAWN: usize = 60;
/// Remedies that are shown for one reason.
const MOST_REMEDIES: usize = 2;

/// The page about everything in `whole`; `paths` are those of the matrix, `acts` are drawn first.
pub(super) fn page<'a>(
    whole: &'a Whole,
    (title, input): (String, &Input),
    paths: &[Vec<u8>],
    acts: &[Act],
) -> Result<Report<'a>, Failure> {
    let stage = &whole.stage;
    let mut matrix = Vec::new();
    let mut open = Vec::new();
    let mut reasons = Reasons::default();
    for act in acts {
        reasons.add(&ask(stage, act)?, None);
    }
    for actor in stage.actors.iter() {
        let rows = if paths.is_empty() {
            default_rows(stage, actor)
        } else {
            paths.iter().map(|path| access(stage, actor, path)).collect()
        };
        for row in rows {
            for (column, act) in acts_of(Which::Denied, stage, actor, &row) {
                reasons.add(&ask_as(stage, actor, &act), Some((&row, column)));
            }
            for (_, act) in acts_of(Which::Open, stage, actor, &row) {
                note_open(&ask_as(stage, actor, &act), &mut open);
            }
            matrix.push(row);
        }
    }
    open.sort_by_key(|one: &Open| std::cmp::Reverse(one.answers));
    let more_denied = reasons.all.len().saturating_sub(MOST_DRAWN);
    let mut denied = reasons.all;
    denied.truncate(MOST_DRAWN);
    mend(whole, &mut denied)?;
    let handoffs = whole.handoffs(&[])?;
    let limits = &whole.policy.limits;
    let findings = exposure(stage, limits, &whole.policy.accepted, &Patterns)?;
    let upheld = expectations(whole, &input.input.display().to_string())?;
    let mut assumptions: BTreeSet<_> =
        denied.iter().flat_map(|one| one.answer.assumptions.iter().cloned()).collect();
    assumptions.extend(stage.actors.iter().flat_map(|actor| actor.identity.assumptions.iter().cloned()));
    assumptions.extend(handoffs.iter().flat_map(|handoff| handoff.assumptions.iter().cloned()));
    let held = upheld.inputs.iter().flat_map(|input| &input.held);
    assumptions.extend(held.flat_map(|held| held.assumptions.iter().cloned()));
    Ok(Report {
        title,
        input: input.input.display().to_string(),
        changes: input.facts.change.clone(),
        stage,
        remarks: remarks(whole.scene(), &whole.scene().workloads, stage, &|_| true),
        mounts,
        access: matrix,
        denied,
        more_denied,
        open,
        handoffs,
        findings,
        upheld,
        assumptions,
        names: crate::terminal::names(),
    })
}

/// Which cells of a row are asked about again.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Which {
    Denied,
    Open,
}

/// The acts behind the denied or the open cells of a row, with their columns. What is not about permission is left out: that
/// a mount point is in use, that data does not run.
fn acts_of(which: Which, stage: &Stage, actor: &Actor, row: &AccessRow) -> Vec<(&'static str, Act)> {
    let directory = row.facts.is_some_and(|facts| facts.kind == FileKind::Directory);
    let data = row.facts.and_then(|facts| facts.mode).is_some_and(|mode| !mode.has_any(Mode::ANY_EXECUTE));
    let there = || row.path.clone();
    let new = if directory { free_path(stage, actor, &row.path) } else { there() };
    let delete = if directory { Verb::RemovesDirectory } else { Verb::Deletes };
    let asked = |column| match column {
        Column::Read => (Verb::Reads, there()),
        Column::Write => (Verb::Writes, there()),
        Column::Create => (Verb::Creates(Mode::new(0o666)), new.clone()),
        Column::Delete => (delete.clone(), there()),
        Column::List => (Verb::Lists, there()),
        Column::Enter => (Verb::Enters, there()),
        Column::Run => (Verb::Runs, there()),
    };
    let act = |column| {
        let (verb, path) = asked(column);
        Act { actor: row.actor.clone(), verb, path, expectation: None }
    };
    let mounted = actor.mounts.iter().any(|(_, mount)| *mount.facts.at == *row.path);
    let shown = |column: Column, outcome: Option<&Outcome>| {
        let permission = |errno: &Errno| matches!(errno, Errno::EACCES | Errno::EPERM | Errno::EROFS);
        let wanted = match outcome {
            // Which errno it is may depend on a missing fact.
            Some(Outcome::Denied(errno)) => errno.as_ref().is_none_or(permission),
            Some(Outcome::Depends) => which == Which::Open,
            Some(Outcome::Allowed | Outcome::NeverRuns(_)) | None => false,
        };
        wanted
            && (which == Which::Denied) == matches!(outcome, Some(Outcome::Denied(_)))
            && !(column == Column::Run && data)
            && !(column == Column::Delete && mounted)
    };
    let wanted = row.cells.iter().filter(|(column, outcome)| shown(*column, outcome.as_ref()));
    wanted.map(|(column, _)| (column.word(), act(column))).collect()
}

/// Adds what an open answer depends on.
fn note_open(answer: &Answer, all: &mut Vec<Open>) {
    let Some(first) = answer.depends_on.first() else { return };
    match all.iter_mut().find(|one| one.fact == first.fact) {
        Some(one) => one.answers += 1,
        None => all.push(Open {
            fact: first.fact.clone(),
            settle: first.settle.join(", or "),
            act: answer.act.to_string(),
            answers: 1,
        }),
    }
}

/// What stops an act: who, by which check, where, with which errno, by which fact.
type Reason = (String, Check, Vec<u8>, Errno, String);

/// Denied acts, those with one reason together.
#[derive(Default)]
struct Reasons {
    all: Vec<Denied>,
    at: BTreeMap<Reason, usize>,
}

impl Reasons {
    fn add(&mut self, answer: &Answer, cell: Option<(&AccessRow, &'static str)>) {
        let failed = answer.steps.iter().rev().find_map(|step| match step.result {
            StepResult::Failed(errno) => Some((step, errno)),
            StepResult::Passed => None,
        });
        let (Outcome::Denied(_), Some((step, errno))) = (&answer.outcome, failed) else { return };
        let reason = (answer.actor.clone(), step.check, step.path.clone(), errno, step.fact.clone());
        let at = *self.at.entry(reason).or_insert_with(|| {
            let others = Vec::new();
            let cells = Vec::new();
            self.all.push(Denied { answer: answer.clone(), others, cells, remedies: None });
            self.all.len() - 1
        });
        let denied = &mut self.all[at];
        let sentence = answer.act.to_string();
        if sentence != denied.answer.act.to_string() && !denied.others.contains(&sentence) {
            denied.others.push(sentence);
        }
        denied.cells.extend(cell.map(|(row, column)| (row.actor.clone(), row.path.clone(), column)));
    }
}

/// Fills in what would let the acts succeed, the best first.
fn mend(whole: &Whole, denied: &mut [Denied]) -> Result<(), Failure> {
    let acts: Vec<Act> = denied.iter().filter_map(|one| to_be_mended(&one.answer)).collect();
    let own = own_expectations(whole)?;
    let situation = Situation::new(whole.scene(), &whole.changes).expecting(&own, &Patterns);
    let mut texts = Texts::new(&situation);
    let mut found = remedies_of_each(&situation, &acts).into_iter();
    for one in denied.iter_mut().filter(|one| to_be_mended(&one.answer).is_some()) {
        // Two workloads of one name: which of them is to be changed no one can say.
        let Some(Ok(mut found)) = found.next() else { continue };
        found.remedies.truncate(MOST_REMEDIES);
        let written = found
            .remedies
            .iter()
            .map(|remedy| texts.written(remedy, std::slice::from_ref(&found.answer.act)))
            .collect();
        one.remedies = Some((found, written));
    }
    Ok(())
}

/// The act that a remedy is looked for; what is meant to be denied needs none.
fn to_be_mended(answer: &Answer) -> Option<Act> {
    let meant = answer.act.expectation.is_some() && answer.holds() == Some(true);
    (!meant).then(|| Act { expectation: None, ..answer.act.clone() })
}

fn expectations(whole: &Whole, input: &str) -> Result<Run, Failure> {
    let mut held = Vec::new();
    for expected in own_expectations(whole)? {
        let found = uphold(&whole.stage, &expected, &Patterns);
        held.push(found.map_err(|why| Misread::at(&expected, why))?);
    }
    let checked = Checked { input: input.to_owned(), held, unusable: None };
    Ok(Run { inputs: vec![checked], accept: AcceptDepends::No })
}
