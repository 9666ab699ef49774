//! From the command that was typed to its function.

use std::io::Write;

use clap::Parser;

use crate::args::{Args, Command, bare};
use crate::commands::{
    access, admits, ask, compare, completions, confirm, decode, demo, draft, exposure, handoff, identity,
    imprint, manual, mounts, rehearse, remedy, report, schema, survey, uphold, verdicts, why,
};
use crate::end::{End, Failure};

/// Runs the command that was asked for.
pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    match &args.command {
        Command::Identity(args) => identity::run(args, out, err),
        Command::Mounts(args) => mounts::run(args, out, err),
        Command::Access(args) => access::run(args, out, err),
        Command::Ask(args) => ask::run(args, out, err),
        Command::Why(args) => why::run(args, out, err),
        Command::Confirm(args) => confirm::run(args, out, err),
        Command::Imprint(args) => imprint::run(args, out, err),
        Command::Compare(args) => compare::run(args, out, err),
        Command::Handoff(args) => handoff::run(args, out, err),
        Command::Admits(args) => admits::run(args, out, err),
        Command::Exposure(args) => exposure::run(args, out, err),
        Command::Remedy(args) => remedy::run(args, out, err),
        Command::Decode(args) => decode::run(args, out),
        Command::Rehearse(args) => rehearse::run(args, out, err),
        Command::Uphold(args) => uphold::run(args, out, err),
        Command::Report(args) => report::run(args, err),
        Command::Demo(args) => demo::run(args, run_line, out),
        Command::Draft(args) => draft::run(args, out, err),
        Command::Survey(args) => survey::run(args, out, err),
        Command::Verdicts(args) => verdicts::run(args, out, err),
        Command::Schema(args) => schema::run(args, out),
        Command::Completions(args) => completions::run(args, out),
        Command::Manual(args) => manual::run(args, bare().disable_help_subcommand(true)),
    }
}

/// Runs the command line behind `mivask`, for the demo.
fn run_line(words: &[&str], out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let args = Args::parse_from(std::iter::once(&"mivask").chain(words));
    crate::terminal::list_all(args.all);
    run(&args, out, err)
}
