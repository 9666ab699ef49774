//! Options that several commands share.

use std::path::PathBuf;

use clap::ValueEnum;

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

/// What nearly every question takes.
#[derive(Debug, clap::Args)]
pub(crate) struct Common {
    #[command(flatten)]
    pub input: Input,
    /// Only this actor: a container, or WORKLOAD/CONTAINER. May be repeated.
    #[arg(long, value_name = "NAME")]
    pub actor: Vec<String>,
    /// How to print the answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    pub format: Format,
}

/// How to print an answer.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
pub(crate) enum Format {
    /// For people.
    Text,
    /// One JSON document.
    Json,
}
