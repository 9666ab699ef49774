//! What was typed.

use clap::{Parser, Subcommand};

use crate::commands::{
    access, admits, ask, compare, confirm, decode, demo, exposure, handoff, identity, imprint, mounts,
    rehearse, remedy, report, schema, survey, uphold, why,
};
use crate::options::Color;

/// Predicts what a containerised process can do to files, before anything is deployed, and says why.
///
/// INPUT is a Kubernetes manifest, a folder of them, or a scene file that adds facts about images, volumes
/// and the host; `-` is standard input. Inputs are told apart by content.
#[derive(Debug, Parser)]
#[command(name = "mivask", version, max_term_width = 100, disable_help_subcommand = true)]
#[command(
    after_help = "Exit status: 0 answered; 1 an expectation does not hold; 2 unusable input.\n\nTry it: mivask demo"
)]
pub(crate) struct Args {
    /// When to colour; NO_COLOR is obeyed too.
    #[arg(long, value_name = "WHEN", default_value = "auto", global = true)]
    pub color: Color,

    #[command(subcommand)]
    pub command: Command,
}

/// The questions, in the order people ask them.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Identity(identity::Args),
    Mounts(mounts::Args),
    Access(access::Args),
    Ask(ask::Args),
    Why(why::Args),
    Imprint(imprint::Args),
    Rehearse(rehearse::Args),
    Handoff(handoff::Args),
    Admits(admits::Args),
    Exposure(exposure::Args),
    Compare(compare::Args),
    Remedy(remedy::Args),
    Decode(decode::Args),
    Survey(survey::Args),
    Uphold(uphold::Args),
    Report(report::Args),
    Confirm(confirm::Args),
    Demo(demo::Args),
    Schema(schema::Args),
}
