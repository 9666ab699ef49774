//! `compare`: two scenes, or one with and without a change; two states of a disk.

mod drift;

use std::collections::BTreeSet;
use std::io::Write;
use std::path::PathBuf;

use mivask_core::change::{Change, Changes, Sentence};
use mivask_core::prepare::HOST;
use mivask_core::question::{contrast, mounts};
use mivask_core::rehearse::{Rehearsal, RehearsalError};
use mivask_disk::process::Reach;
use mivask_show::compare::Compared;
use mivask_show::{json, text};

use crate::change;
use crate::end::{CommandError, End, Failure};
use crate::load::{self, Whole, layout};
use crate::options::{Commands, Format, Input};
use crate::reach::Asked;
use crate::terminal::{self, Quiet};

/// Only what differs between two scenes, with a --change, or between two states of a disk.
///
/// Which identities changed, which mounts, which files look different, and which access opened or closed.
///
/// Of two disks (surveys, archives, listings, folders; or with --volume what a scene says of a volume and such a source): which owners,
/// modes, ACLs and kinds changed, what appeared and what is gone.
///
/// Outcomes are compared for everything below the mounts the description asks for, or below each --path.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  mivask compare tides.scene.yaml --change 'gauge becomes 7102:7200'\n  mivask compare before.yaml after.yaml --path /data\n  mivask compare monday.survey /srv/readings"
)]
pub(crate) struct Args {
    #[command(flatten)]
    input: Input,
    /// The other scene, to which each --change is applied; by default INPUT itself.
    other: Option<PathBuf>,
    /// Compare below this absolute path inside the container. May be repeated.
    #[arg(long = "path", value_name = "PATH")]
    paths: Vec<PathBuf>,
    /// Only this actor: a container, or WORKLOAD/CONTAINER. May be repeated.
    #[arg(long, value_name = "NAME")]
    actor: Vec<String>,
    /// Compare what INPUT says is on this volume with the files of OTHER.
    #[arg(long, value_name = "NAME", requires = "other")]
    volume: Option<String>,
    /// Of two disks: each path that differs, not only what changed how often.
    #[arg(long)]
    list: bool,
    #[command(flatten)]
    commands: Commands,
    /// How to print the answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    format: Format,
}

/// There is only one scene.
#[derive(Debug, thiserror::Error)]
#[error(
    "there is nothing to compare with: name a second scene, or write a --change such as --change 'gauge umask 0002'"
)]
struct NothingToCompare;

impl CommandError for NothingToCompare {}

/// Commands are those of changes: how one scene became another one is not known.
#[derive(Debug, thiserror::Error)]
#[error("--commands and --undo are about each --change of one input: leave {} out", mivask_show::safe(&.0.display().to_string()))]
struct TwoScenes(PathBuf);

impl CommandError for TwoScenes {}

/// A change that cannot be made as one of a rehearsal.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
struct NotScripted(String);

impl CommandError for NotScripted {}

/// The commands of every --change, or the way back.
fn scripted(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    if let Some(other) = &args.other {
        return Err(TwoScenes(other.clone()).into());
    }
    let mut input = args.input.clone();
    input.facts.change.clear();
    let asked = Asked::default().about(&args.actor).with_changes(&args.input.facts.change).whole();
    let (scene, _) = Whole::read(&input, &asked, err)?.into_scene();
    let changes = change::read(&args.input.facts.change, &scene, err)?;
    let mut rehearsal = Rehearsal::new(scene, &Changes::with_globs(Vec::new(), changes.globs()))?;
    for change in changes.iter() {
        let of_host =
            if let Change::Files(act) = change { Some(act).filter(|act| act.actor == HOST) } else { None };
        let sentence =
            of_host.map_or_else(|| Sentence::Change(change.clone()), |act| Sentence::Act(act.clone()));
        rehearsal.next(&sentence).map_err(|error| match error {
            RehearsalError::Actor(error) => Failure::from(error),
            RehearsalError::Change(error) => Failure::from(error),
            error => NotScripted(error.to_string()).into(),
        })?;
    }
    args.commands.print(&rehearsal, out)?;
    Ok(End::Answered)
}

/// The actors that are compared.
fn wanted(args: &Args, whole: &Whole) -> Vec<String> {
    if args.actor.is_empty() {
        return whole.stage.actors.iter().map(|actor| actor.name.to_string()).collect();
    }
    let found = args.actor.iter().filter_map(|name| whole.stage.actor(name).ok());
    found.map(|actor| actor.name.to_string()).collect()
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    if args.input.facts.runtime.len() > 1 {
        return Err(Failure::OneRuntimeAtATime("compare"));
    }
    if let Some(other) = &args.other
        && let Some(pair) = drift::pair(args, other, err)?
    {
        return drift::run(args, &pair, out);
    }
    if args.other.is_none() && args.input.facts.change.is_empty() {
        return Err(NothingToCompare.into());
    }
    // What is wrong with a change is said once, and not among what the same input says again.
    change::check(&args.input.facts.change, err)?;
    if args.commands.commands || args.commands.undo {
        return scripted(args, out, err);
    }
    let paths = load::inside_paths(&args.paths)?;
    let reach = Asked::from(Reach { paths: paths.clone(), whole: true }).about(&args.actor);
    let mut before = args.input.clone();
    before.facts.change.clear();
    let mut after = args.input.clone();
    after.input = args.other.clone().unwrap_or(after.input);
    let before = Whole::read(&before, &reach, err)?;
    let after = if args.other.is_some() {
        Whole::read(&after, &reach, err)?
    } else {
        // What is said of the same input is said once; what is said of a change is new.
        Whole::read(&after, &reach, &mut Quiet::without_warnings(&mut *err))?
    };
    let mut compared = Compared::default();
    compared.below.clone_from(&paths);
    for name in &args.actor {
        if after.stage.actor(name).is_err() {
            before.stage.actor(name)?;
        }
    }
    let old = wanted(args, &before);
    let new = wanted(args, &after);
    let working = terminal::working("comparing what each actor sees");
    let known: BTreeSet<_> = old.iter().collect();
    for name in old.iter().chain(new.iter().filter(|name| !known.contains(name))) {
        let was = before.stage.actor(name).ok();
        let is = after.stage.actor(name).ok();
        let old_mounts = was.map(|actor| mounts(&before.stage, actor)).unwrap_or_default();
        let new_mounts = is.map(|actor| mounts(&after.stage, actor)).unwrap_or_default();
        compared.actor(was.map(|was| (was, &*old_mounts)), is.map(|is| (is, &*new_mounts)));
        if let (Some(was), Some(is)) = (was, is) {
            compared.contrast(contrast((&before.stage, was), (&after.stage, is), &paths));
        }
    }
    drop(working);
    match args.format {
        Format::Text => text::compared(out, &compared, layout())?,
        Format::Json => json::compared(out, &compared)?,
    }
    Ok(End::Answered)
}
