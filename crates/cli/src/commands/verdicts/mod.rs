//! `verdicts`: what many actors can do to a dataset, as tables for engines that answer SQL.

mod regions;
mod rows;
mod volumes;

use std::collections::{BTreeMap, BTreeSet};
use std::io::Write;
use std::path::PathBuf;
use std::sync::Arc;

use mivask_core::change::{Change, Changes};
use mivask_core::prepare::{HOST, Staging};
use mivask_core::scene::{Scene, Workload};
use mivask_core::stage::Stage;
use mivask_disk::dataset::{self, VerdictRow, Verdicts};
use mivask_disk::process::Reach;
use mivask_read::outline::Outline;
use mivask_show::text;

use crate::end::{CommandError, End, Failure};
use crate::inputs::Files;
use crate::load::{choose, outline};
use crate::options::{Facts, Input};
use crate::reach::Asked;
use crate::{change, table, terminal};
use volumes::Dataset;

/// What every actor can do to the volumes of a dataset, as tables that SQL joins with its rows.
///
/// A dataset says who owns what on many volumes (`survey --to dataset`). This adds what each actor of the descriptions can do there: one row
/// for each act and each pair of class and way that occurs, with the outcome, the check that decides and the directory in the way. docs/fleet.md
/// has the views and questions that join them.
///
/// A claim is the volume NAMESPACE.CLAIM of the dataset, or CLAIM; named volumes and those of scenes have their own names.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  mivask verdicts manifests/ compose.yaml --dataset /srv/fleet -o /srv/fleet/verdicts\n  mivask verdicts manifests/ --dataset /srv/fleet -o /tmp/next --change 'web becomes 10001'"
)]
pub(crate) struct Args {
    /// Descriptions, as for every command: manifests, Compose files, scenes, folders of these.
    #[arg(required = true)]
    inputs: Vec<PathBuf>,
    /// The folder of the dataset.
    #[arg(long, value_name = "DIRECTORY")]
    dataset: PathBuf,
    /// The folder to write the tables to; those that are there are replaced.
    #[arg(short, long, value_name = "DIRECTORY")]
    output: PathBuf,
    /// The day of the volumes, YYYY-MM-DD; by default the last one of each.
    #[arg(long, value_name = "DATE")]
    date: Option<String>,
    /// The descriptions of a second state, in the place of INPUT; each --change is made there. May be repeated.
    #[arg(long, value_name = "INPUT")]
    against: Vec<PathBuf>,
    #[command(flatten)]
    facts: Facts,
}

/// Why there are no verdicts.
#[derive(Debug, thiserror::Error)]
enum CannotJudge {
    /// This build reads no datasets.
    #[error("this build reads no datasets: build it with --features parquet, or take a package")]
    NotBuiltIn,
    /// A day that is none.
    #[error("`{0}` is not a date: write it as 2026-12-01")]
    Date(String),
    /// Files are changed by name, and verdicts know no names.
    #[error(
        "a change of files needs their names, which verdicts do not have: make it, take the surveys again, or ask `compare --dataset`"
    )]
    Files,
}

impl CommandError for CannotJudge {}

/// The descriptions of one state.
struct State {
    word: &'static str,
    inputs: Vec<Described>,
}

/// One description.
struct Described {
    name: String,
    outline: Outline,
    changes: Changes,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    if !dataset::is_built_in() {
        return Err(CannotJudge::NotBuiltIn.into());
    }
    if args.facts.runtime.len() > 1 {
        return Err(Failure::OneRuntimeAtATime("verdicts"));
    }
    if let Some(date) = args.date.as_ref().filter(|date| !dataset::is_date(date)) {
        return Err(CannotJudge::Date(date.clone()).into());
    }
    let mut volumes = Dataset::open(&args.dataset, args.date.as_deref()).map_err(Failure::Disk)?;
    let states = states(args, err)?;
    let working = terminal::working("looking at what shows where");
    each(&states, &mut volumes, &mut |given, workload, _, stage, volumes| {
        regions::of(stage, workload, volumes, &given.names)
    })?;
    volumes.settle().map_err(Failure::Disk)?;
    drop(working);
    let working = terminal::working("judging what each actor can do");
    let mut tables = Tables::default();
    each(&states, &mut volumes, &mut |given, workload, state, stage, volumes| {
        tables.take(
            &rows::Before { state: state.0, input: state.1, workload, names: &given.names },
            stage,
            volumes,
        );
    })?;
    drop(working);
    let all = tables.finish(&volumes);
    let bytes = dataset::write_verdicts(&args.output, &all).map_err(Failure::Output)?;
    let missing = volumes.missing();
    text::verdicts(out, &args.output.display().to_string(), &all, bytes)?;
    text::not_in_dataset(err, &missing)?;
    Ok(End::Answered)
}

/// Both states, or the one.
fn states(args: &Args, err: &mut dyn Write) -> Result<Vec<State>, Failure> {
    change::check(&args.facts.change, err)?;
    let unchanged = Facts { change: Vec::new(), ..args.facts.clone() };
    let mut states = vec![State { word: "given", inputs: described(&args.inputs, &unchanged, err)? }];
    if !args.against.is_empty() || !args.facts.change.is_empty() {
        let inputs = if args.against.is_empty() { &args.inputs } else { &args.against };
        // What is said of them is said once.
        let mut nowhere = std::io::sink();
        let err: &mut dyn Write = if args.against.is_empty() { &mut nowhere } else { err };
        states.push(State { word: "changed", inputs: described(inputs, &args.facts, err)? });
    }
    Ok(states)
}

fn described(inputs: &[PathBuf], facts: &Facts, err: &mut dyn Write) -> Result<Vec<Described>, Failure> {
    let one = |path: &PathBuf| {
        let input = Input { input: path.clone(), facts: facts.clone() };
        let mut outline = outline(&input, &Asked::from(Reach { paths: Vec::new(), whole: true }), err)?;
        let changes = change::read(&facts.change, &outline.scene, err)?;
        let of_files = |change: &Change| matches!(change, Change::Files(act) if act.actor != HOST);
        if changes.iter().any(of_files) {
            return Err(CannotJudge::Files.into());
        }
        change::outline(&changes, &mut outline, err)?;
        choose(&mut outline, facts.runtime.first().copied())?;
        Ok(Described { name: path.display().to_string(), outline, changes })
    };
    inputs.iter().map(one).collect()
}

/// What the volumes of a description are called in the dataset.
struct Given {
    names: BTreeMap<String, String>,
}

/// Takes a workload on its stage; the state and the description are named.
type Visit<'v> = &'v mut dyn FnMut(&Given, &Workload, (&'static str, &str), &Stage, &mut Dataset);

/// Puts every workload on a stage, with the volumes of the dataset for those that it mounts.
fn each(states: &[State], volumes: &mut Dataset, visit: Visit<'_>) -> Result<(), Failure> {
    for state in states {
        for described in &state.inputs {
            of_input(state.word, described, volumes, visit)?;
        }
    }
    Ok(())
}

fn of_input(
    word: &'static str,
    described: &Described,
    volumes: &mut Dataset,
    visit: Visit<'_>,
) -> Result<(), Failure> {
    let (outline, changes) = (&described.outline, &described.changes);
    let sharing = table::sharing(outline, changes)?;
    let mut workloads: BTreeMap<String, Vec<Arc<Workload>>> = BTreeMap::new();
    outline.each(&Files::default(), &mut |given| {
        let mut workload = given.clone();
        changes.apply_to_workload(&mut workload)?;
        workloads.entry(workload.namespace.clone()).or_default().push(workload);
        Ok::<(), Failure>(())
    })?;
    // A claim is another volume in another namespace.
    for of_namespace in workloads.values() {
        let mut names = BTreeMap::new();
        let mut scene = Scene { workloads: Vec::new(), ..outline.scene.clone() };
        for workload in of_namespace {
            volumes.put(workload, &mut scene, &mut names).map_err(Failure::Disk)?;
        }
        let given = Given { names };
        let mut staging = Staging::new(&scene, outline.actor_names.clone(), sharing.clone());
        for workload in of_namespace {
            let mut stage = staging.next(workload);
            changes.apply_to_files(&mut stage)?;
            visit(&given, workload, (word, &described.name), &stage, volumes);
        }
    }
    Ok(())
}

/// The tables as they grow.
#[derive(Default)]
struct Tables {
    all: Verdicts,
    views: BTreeSet<i64>,
}

impl Tables {
    fn take(&mut self, before: &rows::Before<'_>, stage: &Stage, volumes: &Dataset) {
        for actor in stage.actors.iter() {
            for (row, verdicts) in rows::of_actor(before, stage, actor, volumes) {
                self.all.actors.push(row);
                self.view(verdicts);
            }
        }
    }

    fn view(&mut self, verdicts: Vec<VerdictRow>) {
        let number = dataset::view(&verdicts);
        if !verdicts.is_empty() && self.views.insert(number) {
            self.all.views.push((number, verdicts));
        }
    }

    fn finish(mut self, volumes: &Dataset) -> Verdicts {
        self.all.actors.sort_unstable();
        self.all.views.sort_unstable_by_key(|(number, _)| *number);
        self.all.regions = volumes.regions();
        self.all
    }
}
