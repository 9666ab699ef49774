//! `uphold`: what is expected, held against scenes.

pub(super) mod check;
pub(super) mod error;
mod watch;

use std::io::Write;
use std::path::PathBuf;

use clap::ValueEnum;
use mivask_core::expect::AcceptDepends;
use mivask_show::text::Shown;
use mivask_show::upheld::Run;
use mivask_show::{ci, json, text};

use self::error::UpholdError;
use crate::end::{End, Failure};
use crate::load::layout;
use crate::options::Facts;
use crate::output;

/// Checks expectations against scenes, for CI.
///
/// The exit status is 1 if one does not hold.
///
/// An expectation is an act with its outcome, or covers many actors and paths: 'gauge, press read /data/**', '*
/// except prime never writes /etc/**', 'only gauge, prime write /data/**', '/data/keys/* at-most 0600'.
/// Expectations are in the scene, under `expect:` and `at-most:`, or in files named with --expect, which apply to
/// every INPUT. One that depends on a missing fact does not hold. What would help: `remedy INPUT --unmet`.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  mivask uphold tides.scene.yaml\n  mivask uphold scenes/*.yaml --expect house-rules.acts --also junit=uphold.xml\n  mivask uphold station.yaml --expect rules.acts --format annotations"
)]
pub(crate) struct Args {
    /// Scenes or descriptions, each checked on its own; `-` is standard input.
    #[arg(value_name = "INPUT", required = true)]
    inputs: Vec<PathBuf>,
    /// A file of expectations, one per line, for every INPUT. May be repeated.
    #[arg(long, value_name = "FILE")]
    expect: Vec<PathBuf>,
    #[command(flatten)]
    facts: Facts,
    /// Expectations that depend on a missing fact count as held; they are still reported.
    #[arg(long)]
    accept_depends: bool,
    /// Expectations that hold where missing facts are as usual (docs/usual.md) count as held; they are still reported.
    #[arg(long, conflicts_with = "accept_depends")]
    accept_usual: bool,
    /// How to print the result.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    format: ReportFormat,
    /// Also write the result to a file, such as junit=uphold.xml. May be repeated.
    #[arg(long, value_name = "FORMAT=FILE", value_parser = also)]
    also: Vec<(ReportFormat, PathBuf)>,
    /// Keep running, and check again whenever a file that was read changes.
    #[arg(long)]
    watch: bool,
}

/// How to print the result.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
pub(crate) enum ReportFormat {
    /// For people.
    Text,
    /// One JSON document.
    Json,
    /// JUnit XML, one suite per input.
    Junit,
    /// SARIF 2.1.0: each expectation that does not hold, with the facts that break it.
    Sarif,
    /// TAP version 14.
    Tap,
    /// Workflow commands, which GitHub shows beside the lines.
    Annotations,
}

fn also(text: &str) -> Result<(ReportFormat, PathBuf), String> {
    let (format, path) = text.split_once('=').ok_or("write FORMAT=FILE, such as junit=uphold.xml")?;
    let format = ReportFormat::from_str(format, false).map_err(|_| {
        let all: Vec<_> =
            ReportFormat::value_variants().iter().filter_map(ValueEnum::to_possible_value).collect();
        let names: Vec<&str> = all.iter().map(clap::builder::PossibleValue::get_name).collect();
        format!("`{format}` is not a format: write one of {}", names.join(", "))
    })?;
    if path.is_empty() { Err("no file is named".to_owned()) } else { Ok((format, path.into())) }
}

impl Args {
    /// Whether it stays.
    pub(crate) const fn is_live(&self) -> bool {
        self.watch
    }

    const fn accept(&self) -> AcceptDepends {
        match (self.accept_depends, self.accept_usual) {
            (true, _) => AcceptDepends::Yes,
            (false, true) => AcceptDepends::Usual,
            (false, false) => AcceptDepends::No,
        }
    }

    fn once(&self, out: &mut dyn Write, err: &mut dyn Write) -> Result<(End, Vec<PathBuf>), Failure> {
        let check::Outcome { run, files, wrong } = check::all(self, err)?;
        for (format, path) in &self.also {
            output::text(path, |file| Ok(print(file, *format, &run, self.shown())?))?;
        }
        print(out, self.format, &run, self.shown())?;
        let end = match (run.unusable() > 0 || wrong, run.is_held()) {
            (true, _) => End::Unusable,
            (false, false) => End::NotUpheld,
            (false, true) => End::Answered,
        };
        Ok((end, files))
    }

    fn shown(&self) -> Shown {
        if crate::terminal::lists_all() { Shown::All } else { Shown::Wrong }
    }
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    if args.facts.runtime.len() > 1 {
        return Err(Failure::OneRuntimeAtATime("uphold"));
    }
    let standard =
        args.inputs.iter().chain(&args.expect).filter(|path| *path == std::path::Path::new("-")).count();
    if standard > 1 || (standard > 0 && args.watch) {
        return Err(UpholdError::StandardInputMore.into());
    }
    output::distinct(args.also.iter().map(|(_, path)| path.as_path()))?;
    if args.watch {
        return watch::run(args, out, err);
    }
    args.once(out, err).map(|(end, _)| end)
}

fn print(out: &mut dyn Write, format: ReportFormat, run: &Run, shown: Shown) -> std::io::Result<()> {
    match format {
        ReportFormat::Text => text::upheld(out, run, shown, layout()),
        ReportFormat::Json => json::upheld(out, run),
        ReportFormat::Junit => ci::junit(out, run),
        ReportFormat::Sarif => ci::sarif(out, run),
        ReportFormat::Tap => ci::tap(out, run),
        ReportFormat::Annotations => ci::annotations(out, run),
    }
}
