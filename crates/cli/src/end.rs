//! How the program ends.

use std::io::{self, Write};
use std::path::PathBuf;
use std::process::ExitCode;

use mivask_core::actor_names::ActorError;
use mivask_disk::error::{At, DiskError};
use mivask_read::input::InputError;
use mivask_read::nearest::nearest;

/// The exit statuses.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum End {
    /// 0: the question was answered.
    Answered,
    /// 1: it was answered, and an expectation does not hold.
    NotUpheld,
    /// 1: a survey was written that lacks what could not be read.
    Incomplete,
    /// 2: the input cannot be used.
    Unusable,
    /// 3: nothing that was asked for could be checked here.
    Unchecked,
}

impl From<End> for ExitCode {
    fn from(end: End) -> Self {
        Self::from(match end {
            End::Answered => 0,
            End::NotUpheld | End::Incomplete => 1,
            End::Unusable => 2,
            End::Unchecked => 3,
        })
    }
}

/// Why there is no answer.
#[derive(Debug, thiserror::Error)]
pub(crate) enum Failure {
    /// The input cannot be read.
    #[error(transparent)]
    Input(#[from] InputError),
    /// The input was read, and its mistakes have been printed.
    #[error("the input cannot be used: {errors} {noun} above", noun = if *errors == 1 { "error" } else { "errors" })]
    Mistakes {
        /// How many.
        errors: usize,
    },
    /// It was read, but `--strict` takes warnings for errors.
    #[error("{warnings} {noun} above, and --strict allows none", noun = if *warnings == 1 { "warning" } else { "warnings" })]
    Strict {
        /// How many.
        warnings: usize,
    },
    /// The runtime cannot run what the input describes.
    #[error("{runtime} does not run {workload}: name one of {fitting}")]
    Runtime {
        /// The runtime.
        runtime: &'static str,
        /// What it would have to run.
        workload: String,
        /// Those that can.
        fitting: String,
    },
    /// An actor's name is wrong.
    #[error(transparent)]
    Actor(#[from] ActorError),
    /// A change cannot be made.
    #[error(transparent)]
    Change(#[from] mivask_core::change::ChangeError),
    /// A source of on-disk facts cannot be used.
    #[error("{0}")]
    Disk(DiskError),
    /// A file cannot be written or read.
    #[error("{}: {error}", path.display())]
    File {
        /// Which.
        path: PathBuf,
        /// What the operating system says.
        error: io::Error,
    },
    /// A path that is not absolute.
    #[error("`{0}` is not an absolute path: paths are those inside the container, such as /data")]
    Relative(String),
    /// A command that answers under one runtime.
    #[error("{0} answers under one runtime at a time")]
    OneRuntimeAtATime(&'static str),
    /// Nothing was asked.
    #[error(
        "no act was given: write one, such as 'gauge writes /data/level.csv', or name a file with --acts"
    )]
    NoAct,
    /// Both the input and the acts are `-`.
    #[error("standard input can be the INPUT or the acts, not both")]
    StandardInputTwice,
    /// A file of acts or expectations is not text: what is not UTF-8 would be another path.
    #[error(
        "{file}:{line}: byte {byte:#04x} is not UTF-8: in a path write it in double quotes, as \"/a\\x{byte:02x}\""
    )]
    NotText {
        /// The file.
        file: String,
        /// The line, from 1.
        line: usize,
        /// The first byte that is not UTF-8.
        byte: u8,
    },
    /// The answer cannot be written.
    #[error("the answer cannot be written: {0}")]
    Output(#[from] io::Error),
    /// What only one command can meet, in its own words.
    #[error("{0}")]
    Own(Box<dyn CommandError>),
}

/// What only one command, or one part of the arguments, can meet; each has its own.
pub(crate) trait CommandError: std::error::Error + Send + Sync + 'static {
    /// The name that was meant instead of the one given, where one is near.
    fn meant(&self) -> Option<&str> {
        None
    }
}

impl<E: CommandError> From<E> for Failure {
    fn from(error: E) -> Self {
        Self::Own(Box::new(error))
    }
}

impl Failure {
    /// Prints it, with a proposal where one is near.
    pub(crate) fn report(&self, err: &mut dyn Write) -> io::Result<()> {
        let style = anstream_style();
        writeln!(err, "{style}error{style:#}: {}", mivask_show::safe(&self.to_string()))?;
        if let Self::Disk(error) = self {
            if let At::Line { line, text, .. } = &error.at {
                writeln!(err, "  {line} | {}", mivask_show::safe(text))?;
            }
            if let Some(help) = &error.help {
                writeln!(err, "  help: {}", mivask_show::safe(help))?;
            }
        }
        let meant = if let Self::Actor(ActorError::Unknown { name, known }) = self {
            nearest(name, known.iter().map(|name| &**name))
        } else if let Self::Own(error) = self {
            error.meant()
        } else {
            None
        };
        if let Some(meant) = meant {
            writeln!(err, "  help: did you mean `{}`?", mivask_show::safe(meant))?;
        }
        Ok(())
    }
}

fn anstream_style() -> clap::builder::styling::Style {
    clap::builder::styling::AnsiColor::Red.on_default().bold()
}
