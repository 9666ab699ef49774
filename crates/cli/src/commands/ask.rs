//! `ask`: acts, one by one.

use std::io::Write;
use std::path::PathBuf;

use clap::ValueEnum;
use mivask_core::act::{Act, ActError, parse_act, parse_acts};
use mivask_core::question::{Answer, ask};
use mivask_core::stage::Stage;
use mivask_disk::process::Reach;
use mivask_read::input::{Disk, FileReader};
use mivask_read::slip::{Severity, Slips};
use mivask_read::text::SourceText;
use mivask_show::sides;

use crate::end::{End, Failure};
use crate::load;
use crate::mistakes;
use crate::options::Input;
use crate::reach;

/// Whether acts succeed, and with which errno they fail.
///
/// Each is answered against the untouched scene.
///
/// An act is `ACTOR VERB PATH [DETAIL] [-> EXPECTATION]`. With an expectation (`-> allowed`, `-> denied EACCES`,
/// `-> leaves 7101:7300 0644`) that does not hold the exit status is 1.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Example: mivask ask pod.yaml 'gauge writes /data/level.csv' 'gauge creates /data/new'"
)]
pub(crate) struct Args {
    #[command(flatten)]
    input: Input,
    /// Acts, each a single argument.
    #[arg(value_name = "ACT")]
    acts: Vec<String>,
    /// A file of acts, one a line; `-` is standard input.
    #[arg(long = "acts", value_name = "FILE")]
    file: Vec<PathBuf>,
    /// How to print the answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    format: ActFormat,
}

/// How to print answers to acts.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
enum ActFormat {
    /// For people.
    Text,
    /// One JSON document.
    Json,
    /// One JSON object a line.
    Jsonl,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let mut answer = |stage: &Stage, err: &mut dyn Write| {
        let acts = gather(&args.input, &args.acts, &args.file, stage, err)?;
        let answers: Vec<Answer> = acts.iter().map(|act| ask(stage, act)).collect::<Result<_, _>>()?;
        Ok(sides::acts(&answers))
    };
    if let Some(sides) = load::sides(&args.input, err, &mut answer)? {
        return load::print_sides(out, &sides, args.format != ActFormat::Text);
    }
    let whole = load::Whole::read(&args.input, &reach(args)?, err)?;
    let acts = gather(&args.input, &args.acts, &args.file, &whole.stage, err)?;
    whole.remark(&acts, err)?;
    let answers: Vec<Answer> = acts.iter().map(|act| ask(&whole.stage, act)).collect::<Result<_, _>>()?;
    match args.format {
        ActFormat::Text => mivask_show::text::acts(out, &answers, load::layout())?,
        ActFormat::Json => mivask_show::json::acts(out, &answers)?,
        ActFormat::Jsonl => mivask_show::json::act_lines(out, &answers)?,
    }
    let broken = answers.iter().any(|answer| answer.holds() == Some(false));
    Ok(if broken { End::NotUpheld } else { End::Answered })
}

/// The paths that the acts speak of, for inputs of which not everything is read.
fn reach(args: &Args) -> Result<Reach, Failure> {
    let mut sentences = args.acts.clone();
    for path in args.file.iter().filter(|path| *path != std::path::Path::new("-")) {
        let text = Disk.read(path).map_err(|error| Failure::File { path: path.clone(), error })?;
        sentences.extend(String::from_utf8_lossy(&text).lines().map(ToOwned::to_owned));
    }
    Ok(reach::reach_of(&sentences))
}

/// Every act of the command line and of files, or every mistake in them.
pub(super) fn gather(
    input: &Input,
    sentences: &[String],
    files: &[PathBuf],
    stage: &Stage,
    err: &mut dyn Write,
) -> Result<Vec<Act>, Failure> {
    let standard = std::path::Path::new("-");
    if input.input == standard && files.iter().any(|file| file == standard) {
        return Err(Failure::StandardInputTwice);
    }
    let mut acts = Vec::new();
    let mut slips = Slips::default();
    for (index, text) in sentences.iter().enumerate() {
        acts.extend(one(text, index, stage, &mut slips));
    }
    for path in files {
        let text = load::text(path)?;
        match parse_acts(&text.text) {
            Ok(read) => {
                for (act, span) in read {
                    known_actor(&act, &text, &span, stage, &mut slips);
                    acts.push(act);
                }
            }
            Err(errors) => errors.iter().for_each(|error| mistake(error, &text, &mut slips)),
        }
    }
    mistakes::report(&slips, err)?;
    mistakes::refuse_errors(&slips)?;
    if acts.is_empty() { Err(Failure::NoAct) } else { Ok(acts) }
}

/// The act of argument `index` (from 0).
pub(super) fn one(text: &str, index: usize, stage: &Stage, slips: &mut Slips) -> Option<Act> {
    let source = SourceText::new(&format!("act {}", index + 1), text);
    match parse_act(text) {
        Ok(act) => {
            known_actor(&act, &source, &(0..text.len()), stage, slips);
            Some(act)
        }
        Err(error) => {
            mistake(&error, &source, slips);
            None
        }
    }
}

pub(super) fn mistake(error: &ActError, source: &SourceText, slips: &mut Slips) {
    slips.add(
        Severity::Error,
        source,
        &error.span,
        error.to_string(),
        Some(mivask_read::help::help(&error.kind)),
    );
}

/// An actor that is not there is pointed at like any other mistake.
fn known_actor(
    act: &Act,
    source: &SourceText,
    span: &std::ops::Range<usize>,
    stage: &Stage,
    slips: &mut Slips,
) {
    known_name(&act.actor, source, span, stage, slips);
}

/// The same for the name that a line begins with.
pub(super) fn known_name(
    name: &str,
    source: &SourceText,
    span: &std::ops::Range<usize>,
    stage: &Stage,
    slips: &mut Slips,
) {
    let Err(error) = stage.actor(name) else {
        return;
    };
    let names = stage.cast().names().iter().map(|name| &**name);
    let help = mivask_read::nearest::nearest(name, names);
    let help = help.map(|meant| format!("did you mean `{meant}`?"));
    let end = (span.start + name.len()).min(span.end);
    slips.add(Severity::Error, source, &(span.start..end), error.to_string(), help);
}
