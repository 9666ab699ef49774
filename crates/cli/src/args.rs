//! What was typed.

use std::path::PathBuf;

use clap::{Parser, Subcommand, ValueEnum};

use crate::commands::{access, ask, demo, identity, imprint, mounts, schema, why};

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
    Demo(demo::Args),
    Schema(schema::Args),
}

/// When to colour.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
pub(crate) enum Color {
    /// On a terminal.
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

impl Color {
    pub(crate) const fn choice(self) -> anstream::ColorChoice {
        match self {
            Self::Auto => anstream::ColorChoice::Auto,
            Self::Always => anstream::ColorChoice::Always,
            Self::Never => anstream::ColorChoice::Never,
        }
    }
}

/// What to ask about.
#[derive(Debug, clap::Args)]
pub(crate) struct Input {
    /// A manifest, a folder of manifests or a scene file; `-` is standard input.
    pub input: PathBuf,
}

/// Whom to ask about.
#[derive(Debug, clap::Args)]
pub(crate) struct Only {
    /// Only this actor: a container, or WORKLOAD/CONTAINER. May be repeated.
    #[arg(long, value_name = "NAME")]
    pub actor: Vec<String>,
}

/// How to print an answer.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
pub(crate) enum Format {
    /// For people.
    Text,
    /// One JSON document.
    Json,
}
