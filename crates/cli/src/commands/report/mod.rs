//! `report`: one page for the review, or a figure of it.

mod gather;

use std::io::Write;
use std::path::{Path, PathBuf};

use clap::ValueEnum;
use mivask_core::act::Act;
use mivask_core::question::{ask, mounts};
use mivask_disk::process::Reach;
use mivask_show::figure::{self, Figure, Walk};
use mivask_show::report;

use crate::acts::gather as read_acts;
use crate::end::{CommandError, End, Failure};
use crate::load::{self, Whole};
use crate::options::Input;
use crate::{output, terminal};

/// One HTML page for the review, or a figure for a document.
///
/// The page is self-contained: identities with where each number comes from, a map of the mounts, the access matrix
/// with a filter, the walk of each denied act as a figure, hand-offs, exposure, expectations, remedies for denied
/// acts, and assumptions.
///
/// With --figure it is one SVG figure for a document. PATHs are those of the matrix, as for `access`; denied acts
/// are drawn first.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  mivask report tides.scene.yaml -o tides.html\n  mivask report tides.scene.yaml -o why.svg \\\n      --figure walk --act 'gauge reads /data/calibration.toml'"
)]
pub(crate) struct Args {
    #[command(flatten)]
    input: Input,
    /// Absolute paths inside the container for the matrix; by default the mounts and what is directly in them.
    #[arg(value_name = "PATH")]
    paths: Vec<PathBuf>,
    /// The file to write; `-` is standard output.
    #[arg(short, long, value_name = "FILE")]
    output: PathBuf,
    /// The title of the page; by default the scene's, or the name of the input.
    #[arg(long, value_name = "TEXT", conflicts_with = "figure")]
    title: Option<String>,
    /// One figure as SVG instead of the page.
    #[arg(long, value_name = "WHICH")]
    figure: Option<Which>,
    /// An act to draw, a single argument. May be repeated.
    #[arg(long = "act", value_name = "ACT")]
    acts: Vec<String>,
    /// A file of acts to draw; `-` is standard input.
    #[arg(long = "acts", value_name = "FILE")]
    file: Vec<PathBuf>,
}

/// A figure.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
enum Which {
    /// The checks of one act, which --act names, allowed or not.
    Walk,
    /// Volumes, and who sees them where.
    Mounts,
    /// Which containers can use files another one creates.
    Handoff,
}

/// Which acts a figure takes.
#[derive(Debug, thiserror::Error)]
enum ReportError {
    /// A walk is that of one act.
    #[error("a walk needs one act: name it with --act, such as --act 'gauge writes /data/level.csv'")]
    OneAct,
    /// Other figures are of no act.
    #[error("--act and --acts apply to the figure of a walk only: leave them out, or write --figure walk")]
    NoActInFigure,
    /// A page is not a picture.
    #[error(
        "the page is HTML, and {} is named as a picture: write --figure walk, mounts or handoff for one, or name a .html file",
        .0.display()
    )]
    PageAsPicture(PathBuf),
}

impl CommandError for ReportError {}

pub(crate) fn run(args: &Args, err: &mut dyn Write) -> Result<End, Failure> {
    if args.input.facts.runtime.len() > 1 {
        return Err(Failure::OneRuntimeAtATime("report"));
    }
    let one = args.acts.len() == 1 && args.file.is_empty();
    match args.figure {
        Some(Which::Walk) if !one => return Err(ReportError::OneAct.into()),
        Some(Which::Mounts | Which::Handoff) if !args.acts.is_empty() || !args.file.is_empty() => {
            return Err(ReportError::NoActInFigure.into());
        }
        Some(Which::Walk | Which::Mounts | Which::Handoff) | None => {}
    }
    let picture = |name: &std::ffi::OsStr| {
        ["svg", "png", "pdf", "jpg"].iter().any(|known| name.eq_ignore_ascii_case(known))
    };
    if args.figure.is_none() && args.output.extension().is_some_and(picture) {
        return Err(ReportError::PageAsPicture(args.output.clone()).into());
    }
    let paths = load::inside_paths(&args.paths)?;
    let whole = Whole::read(&args.input, &Reach { paths: paths.clone(), whole: true }.into(), err)?;
    let acts = acts(args, &whole, err)?;
    if let Some(which) = args.figure {
        let figure = draw(which, &whole, &acts)?;
        return write(&args.output, |out| Ok(figure.write(out)?));
    }
    let input = &args.input.input;
    let name = || {
        input
            .file_name()
            .map_or_else(|| input.display().to_string(), |name| name.to_string_lossy().into_owned())
    };
    let title = args.title.clone().or_else(|| whole.scene().title.clone()).unwrap_or_else(name);
    let working = terminal::working("gathering the page");
    let page = gather::page(&whole, (title, &args.input), &paths, &acts)?;
    drop(working);
    write(&args.output, |out| Ok(report::html(out, page)?))
}

/// The acts that are named, or every mistake in them.
fn acts(args: &Args, whole: &Whole, err: &mut dyn Write) -> Result<Vec<Act>, Failure> {
    if args.acts.is_empty() && args.file.is_empty() {
        return Ok(Vec::new());
    }
    read_acts(&args.input, &args.acts, &args.file, (&whole.stage, &whole.names()), err)
}

fn draw(which: Which, whole: &Whole, acts: &[Act]) -> Result<Figure, Failure> {
    Ok(match which {
        Which::Walk => {
            let act = acts.first().ok_or(ReportError::OneAct)?;
            figure::walk(&Walk::new(&whole.stage, &ask(&whole.stage, act)?))
        }
        Which::Mounts => {
            let actors = whole.stage.actors.iter();
            let rows: Vec<_> = actors.flat_map(|actor| mounts(&whole.stage, actor)).collect();
            figure::mounts(&rows)
        }
        Which::Handoff => figure::handoffs(&whole.handoffs(&[])?),
    })
}

fn write(path: &Path, fill: impl FnOnce(&mut dyn Write) -> Result<(), Failure>) -> Result<End, Failure> {
    if path == Path::new("-") {
        output::raw(|out| output::guarded(out, fill))?
    } else {
        output::text(path, fill)?
    }
    Ok(End::Answered)
}
