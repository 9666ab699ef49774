//! `verdicts`: what many actors can do to a dataset, as tables for engines that answer SQL.

mod passes;
mod regions;
mod rows;
mod staged;
mod volumes;

use std::collections::{BTreeMap, BTreeSet};
use std::io::Write;
use std::path::PathBuf;

use mivask_core::change::{Change, Changes};
use mivask_core::prepare::HOST;
use mivask_disk::dataset;
use mivask_disk::process::Reach;
use mivask_read::outline::Outline;
use mivask_show::text;

use crate::dataset::{Dataset, Wanted};
use crate::end::{CommandError, End, Failure};
use crate::load::{Told, choose, outline};
use crate::options::{Facts, Input};
use crate::reach::Asked;
use crate::{change, output, terminal};
use passes::First;
use volumes::Volumes;

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
    /// The folder to write the tables to; those that are there are replaced.
    #[arg(short, long, value_name = "DIRECTORY")]
    output: PathBuf,
    /// The description of a second state, in the place of INPUT; each --change is made there. Of several, one for each INPUT.
    #[arg(long, value_name = "INPUT")]
    against: Vec<PathBuf>,
    #[command(flatten)]
    facts: Facts,
}

/// Why there are no verdicts.
#[derive(Debug, thiserror::Error)]
enum CannotJudge {
    /// There is nothing to judge.
    #[error("name the folder of the dataset with --dataset, such as --dataset /srv/fleet")]
    NoDataset,
    /// Descriptions of two states go together one by one.
    #[error("there {given} and {other} with --against: name one for each, in the same order")]
    Against {
        /// The first state.
        given: String,
        /// The second.
        other: usize,
    },
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
    wanted: Wanted,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let dataset = Dataset::of(&args.facts)?.ok_or(CannotJudge::NoDataset)?;
    if args.facts.runtime.len() > 1 {
        return Err(Failure::OneRuntimeAtATime("verdicts"));
    }
    let (given, other) = (args.inputs.len(), args.against.len());
    if other > 0 && other != given {
        let given =
            if given == 1 { "is 1 description".to_owned() } else { format!("are {given} descriptions") };
        return Err(CannotJudge::Against { given, other }.into());
    }
    let mut volumes = Volumes::new(dataset);
    let states = states(args, err)?;
    let working = terminal::working("reading the volumes");
    for described in states.iter().flat_map(|state| &state.inputs) {
        volumes.read(&described.wanted).map_err(Failure::Disk)?;
    }
    drop(working);
    let mut first = First::of(&states, &mut volumes)?;
    let mut told = Told::default();
    for said in first.said() {
        told.remarks(said, err)?;
    }
    told.refuse(args.facts.strict, err)?;
    let all = first.finish(&states, &mut volumes)?;
    let failed = |error| Failure::File { path: args.output.clone(), error };
    let bytes = dataset::write_verdicts(&args.output, &all, output::unnamed).map_err(failed)?;
    let missing = volumes.missing();
    text::verdicts(out, &args.output.display().to_string(), &all, bytes)?;
    text::not_in_dataset(err, &missing)?;
    text::not_mounted(err, &volumes.unmounted())?;
    Ok(End::Answered)
}

/// Both states, or the one.
fn states(args: &Args, err: &mut dyn Write) -> Result<Vec<State>, Failure> {
    change::check(&args.facts.change, err)?;
    // The volumes are read as pairs, not whole.
    let facts = Facts { dataset: None, ..args.facts.clone() };
    let unchanged = Facts { change: Vec::new(), ..facts.clone() };
    let mut states = vec![State { word: "given", inputs: described(&args.inputs, &unchanged, err)? }];
    if !args.against.is_empty() || !args.facts.change.is_empty() {
        let inputs = if args.against.is_empty() { &args.inputs } else { &args.against };
        // What is said of them is said once.
        let mut nowhere = std::io::sink();
        let err: &mut dyn Write = if args.against.is_empty() { &mut nowhere } else { err };
        states.push(State { word: "changed", inputs: described(inputs, &facts, err)? });
    }
    Ok(states)
}

fn described(inputs: &[PathBuf], facts: &Facts, err: &mut dyn Write) -> Result<Vec<Described>, Failure> {
    let mut all = Vec::new();
    // A change is made wherever there is somebody of that name; somewhere there must be.
    let mut nowhere: BTreeMap<&String, Failure> = BTreeMap::new();
    let mut made: BTreeSet<&String> = BTreeSet::new();
    for path in inputs {
        let input = Input { input: path.clone(), facts: facts.clone() };
        let mut outline = outline(&input, &Asked::from(Reach { paths: Vec::new(), whole: true }), err)?;
        let mut sentences = Vec::new();
        for sentence in &facts.change {
            let one = change::read(std::slice::from_ref(sentence), &outline.scene, err)?;
            match one.actors().try_for_each(|(_, name)| outline.actor_names.find(name).map(drop)) {
                Ok(()) => {
                    made.insert(sentence);
                    sentences.push(sentence.clone());
                }
                Err(error) => drop(nowhere.entry(sentence).or_insert(error.into())),
            }
        }
        let changes = change::read(&sentences, &outline.scene, err)?;
        let of_files = |change: &Change| matches!(change, Change::Files(act) if act.actor != HOST);
        if changes.iter().any(of_files) {
            return Err(CannotJudge::Files.into());
        }
        change::outline(&changes, &mut outline, err)?;
        choose(&mut outline, facts.runtime.first().copied())?;
        let wanted = if changes.is_empty() { Wanted::of(&outline) } else { changed(&changes, &outline)? };
        all.push(Described { name: path.display().to_string(), outline, changes, wanted });
    }
    match nowhere.into_iter().find(|(sentence, _)| !made.contains(*sentence)) {
        Some((_, error)) => Err(error),
        None => Ok(all),
    }
}

/// The volumes that workloads mount once they are changed.
fn changed(changes: &Changes, outline: &Outline) -> Result<Wanted, Failure> {
    let mut wanted = Wanted::default();
    change::each_workload(changes, outline, &mut |workload| {
        wanted.take(workload);
        Ok(())
    })?;
    Ok(wanted)
}
