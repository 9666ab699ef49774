//! How the program ends.

use std::io::{self, Write};
use std::path::PathBuf;
use std::process::ExitCode;

use mivask_core::actor_names::ActorError;
use mivask_disk::error::{At, DiskError};
use mivask_kernel::KernelError;
use mivask_read::input::InputError;
use mivask_read::nearest::nearest;
use mivask_trial::TrialError;

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
}

impl From<End> for ExitCode {
    fn from(end: End) -> Self {
        Self::from(match end {
            End::Answered => 0,
            End::NotUpheld | End::Incomplete => 1,
            End::Unusable => 2,
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
    /// A survey would go to a terminal.
    #[error(
        "refusing to write a binary survey to a terminal: name a file with -o, such as -o readings.survey"
    )]
    Terminal,
    /// A format that this build leaves out.
    #[error("this build cannot write {0}: build it with --features {0}, or take a package")]
    NotBuiltIn(&'static str),
    /// A file cannot be written or read.
    #[error("{}: {error}", path.display())]
    File {
        /// Which.
        path: PathBuf,
        /// What the operating system says.
        error: io::Error,
    },
    /// A folder that is not empty.
    #[error("{} is not empty: name a folder that is new or empty", path.display())]
    Occupied {
        /// Which.
        path: PathBuf,
    },
    /// A path that is not absolute.
    #[error("`{0}` is not an absolute path: paths are those inside the container, such as /data")]
    Relative(String),
    /// A source is named for something that nothing asks for.
    #[error("nothing here has the {what} {name}: {}", if known.is_empty() { "it has none at all".to_owned() } else { format!("it has {}", known.join(", ")) })]
    Unasked {
        /// A volume or an image.
        what: &'static str,
        /// Its name.
        name: String,
        /// Those there are.
        known: Vec<String>,
    },
    /// A part of the host does not fit into the rest.
    #[error("{0} on the host: {1}")]
    Planted(String, String),
    /// A pattern of paths that is none.
    #[error("`{0}` is not a pattern of paths: {1}")]
    Glob(String, String),
    /// A command that answers under one runtime.
    #[error("{0} answers under one runtime at a time")]
    OneRuntimeAtATime(&'static str),
    /// What the scene accepts is not readable.
    #[error("{0}")]
    Accepted(String),
    /// There is no such remedy.
    #[error("there is no remedy {pick}: {found} were found")]
    NoRemedy {
        /// The one that was asked for.
        pick: usize,
        /// How many there are.
        found: usize,
    },
    /// A remedy changes no description.
    #[error(
        "remedy {0} changes files or what no field of the description takes, so there is nothing to write"
    )]
    NotInDescription(usize),
    /// There is only one scene.
    #[error(
        "there is nothing to compare with: name a second scene, or write a --change such as --change 'gauge umask 0002'"
    )]
    NothingToCompare,
    /// Nothing was asked.
    #[error(
        "no act was given: write one, such as 'gauge writes /data/level.csv', or name a file with --acts"
    )]
    NoAct,
    /// Both the input and the acts are `-`.
    #[error("standard input can be the INPUT or the acts, not both")]
    StandardInputTwice,
    /// Standard input is named where it cannot be read.
    #[error("standard input is read once: it can be one INPUT or one --expect, and not with --watch")]
    StandardInputMore,
    /// A file of acts or expectations is not text: what is not UTF-8 would be another path.
    #[error(
        "{file}:{line}: byte {byte:#04x} is not UTF-8: in a path write it in double quotes, as \"/a\\x{byte:02x}\""
    )]
    NotText {
        /// The file.
        file: String,
        /// The line, from 1.
        line: usize,
        /// The first byte that is none.
        byte: u8,
    },
    /// A walk is that of one act.
    #[error("a walk needs one act: name it with --act, such as --act 'gauge writes /data/level.csv'")]
    OneAct,
    /// Other figures are of no act.
    #[error("--act and --acts apply to the figure of a walk only: leave them out, or write --figure walk")]
    NoActInFigure,
    /// Nothing is expected of any input.
    #[error(
        "nothing is expected: write expectations under `expect:` in the scene, or name a file of them with --expect"
    )]
    NothingExpected,
    /// An expectation holds a pattern that is none.
    #[error("{0}: {1}")]
    Expectation(String, String),
    /// Files cannot be watched.
    #[error("files cannot be watched here: {0}")]
    Watch(String),
    /// A file system that acts cannot be tried on.
    #[error("{0}")]
    Filesystem(String),
    /// Acts cannot be tried on the kernel here.
    #[error("acts cannot be tried on this kernel: {0}")]
    Kernel(#[from] KernelError),
    /// The answer cannot be written.
    #[error("the answer cannot be written: {0}")]
    Output(#[from] io::Error),
}

impl From<TrialError> for Failure {
    fn from(error: TrialError) -> Self {
        match error {
            TrialError::Kernel(error) => Self::Kernel(error),
            TrialError::Scenario(text) => Self::Filesystem(text),
        }
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
            nearest(name, known.iter().map(|name| &**name)).map(ToOwned::to_owned)
        } else if let Self::Unasked { name, known, .. } = self {
            nearest(name, known.iter().map(String::as_str)).map(ToOwned::to_owned)
        } else {
            None
        };
        if let Some(meant) = &meant {
            writeln!(err, "  help: did you mean `{}`?", mivask_show::safe(meant))?;
        }
        Ok(())
    }
}

fn anstream_style() -> clap::builder::styling::Style {
    clap::builder::styling::AnsiColor::Red.on_default().bold()
}
