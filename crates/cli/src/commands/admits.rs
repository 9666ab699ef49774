//! `admits`: whom a path lets in, and what an actor reaches.

use std::io::Write;
use std::path::PathBuf;

use clap::builder::{PossibleValuesParser, TypedValueParser};
use mivask_core::question::{Column, SweepError, admissions, reached};
use mivask_core::stage::Actor;
use mivask_disk::process::Reach;
use mivask_show::json::List;
use mivask_show::{json, text};

use crate::end::{End, Failure};
use crate::load::{self, Whole, layout};
use crate::options::{Common, Format};

/// Who can access a path, as the smallest conditions; or everything an actor reaches.
///
/// A condition is a UID, groups on the directories of the path, or a capability. Every directory on the path
/// counts, and so do mount options, ACLs and user namespaces; ids are those the actors see. Without a PATH it is
/// the other way round: everything each --actor can reach.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  mivask admits tides.scene.yaml /data/level.csv --to write\n  mivask admits tides.scene.yaml --actor gauge --to write"
)]
pub(crate) struct Args {
    #[command(flatten)]
    common: Common,
    /// An absolute path inside the containers.
    #[arg(value_name = "PATH")]
    paths: Vec<PathBuf>,
    /// Access to what end: read, write, create, delete, list, enter or run.
    #[arg(long, value_name = "ACT", default_value = "read", value_parser = column())]
    to: Column,
    /// Without a PATH: only what is below this directory inside the container.
    #[arg(long, value_name = "DIRECTORY", default_value = "/", conflicts_with = "paths")]
    below: PathBuf,
}

fn column() -> impl TypedValueParser<Value = Column> {
    PossibleValuesParser::new(Column::ALL.map(Column::word))
        .map(|word| Column::ALL.into_iter().find(|column| column.word() == word).unwrap_or(Column::Read))
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let input = &args.common.input;
    if input.facts.runtime.len() > 1 {
        return Err(Failure::OneRuntimeAtATime("admits"));
    }
    let paths = load::inside_paths(&args.paths)?;
    let whole = Whole::read(input, &Reach { paths: paths.clone(), whole: paths.is_empty() }.into(), err)?;
    let actors = actors(&whole, &args.common.actor)?;
    if paths.is_empty() {
        return reach(args, &whole, &actors, (out, err));
    }
    let found: Vec<_> =
        paths.iter().flat_map(|path| admissions(&whole.stage, &actors, path, args.to)).collect();
    match args.common.format {
        Format::Text => text::admissions(out, &found, layout())?,
        Format::Json => json::admissions(out, &found)?,
    }
    Ok(End::Answered)
}

fn actors<'a>(whole: &'a Whole, names: &[String]) -> Result<Vec<&'a Actor>, Failure> {
    if names.is_empty() {
        return Ok(whole.stage.actors.iter().collect());
    }
    Ok(names.iter().map(|name| whole.stage.actor(name)).collect::<Result<_, _>>()?)
}

fn reach(
    args: &Args,
    whole: &Whole,
    actors: &[&Actor],
    (out, err): (&mut dyn Write, &mut dyn Write),
) -> Result<End, Failure> {
    let below = load::inside_paths(std::slice::from_ref(&args.below))?;
    let start = below.first().map_or(&b"/"[..], Vec::as_slice);
    let mut given = Vec::new();
    for actor in actors {
        match reached(&whole.stage, actor, start, args.to) {
            Ok(all) => given.push((actor.name.to_string(), all)),
            Err(SweepError::Actor) => {
                writeln!(
                    err,
                    "warning: {} never runs, or may be several: see `identity`",
                    mivask_show::safe(&actor.name)
                )?;
            }
            Err(error @ SweepError::Start(_)) => {
                let path = mivask_core::act::quoted(start);
                writeln!(err, "warning: {} at {path}: {error}", mivask_show::safe(&actor.name))?;
            }
        }
    }
    if args.common.format == Format::Json {
        let mut list = List::begin(out, "reached")?;
        given.iter().try_for_each(|(name, all)| json::reached(&mut list, name, args.to, all))?;
        list.end()?;
        return Ok(End::Answered);
    }
    for (number, (name, all)) in given.iter().enumerate() {
        if number > 0 {
            writeln!(out)?;
        }
        text::reached(out, name, args.to, start, all, layout())?;
    }
    Ok(End::Answered)
}
