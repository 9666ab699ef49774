//! `ask`: acts, one by one.

use std::io::Write;
use std::path::PathBuf;

use clap::ValueEnum;
use mivask_core::names::AccountNames;
use mivask_core::question::{Answer, ask};
use mivask_core::stage::Stage;
use mivask_read::input::FileReader;
use mivask_show::sides;

use crate::acts::gather;
use crate::end::{End, Failure};
use crate::inputs::Files;
use crate::load;
use crate::options::{Acting, Input};
use crate::plain;
use crate::reach::Asked;

/// Whether acts succeed, and with which errno they fail.
///
/// Each is answered against the unchanged scene.
///
/// An act is `ACTOR VERB PATH [DETAIL] [-> EXPECTATION]`. With an expectation (`-> allowed`, `-> denied EACCES`,
/// `-> leaves 7101:7300 0644`) that does not hold the exit status is 1.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Example:\n  mivask ask pod.yaml 'gauge writes /data/level.csv' 'gauge creates /data/new'"
)]
pub(crate) struct Args {
    #[command(flatten)]
    input: Input,
    #[command(flatten)]
    who: Acting,
    /// Acts, each a single argument.
    #[arg(value_name = "ACT")]
    acts: Vec<String>,
    /// A file of acts, one per line; `-` is standard input.
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
    /// One JSON object per line.
    Jsonl,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let sentences = plain::spoken(&args.input, &args.who.actor, &args.acts);
    let asked = asked(&sentences, args)?;
    let mut answer = |(stage, names): (&Stage, &AccountNames), err: &mut dyn Write| {
        let acts = gather(&args.input, &sentences, &args.file, (stage, names), err)?;
        let answers: Vec<Answer> = acts.iter().map(|act| ask(stage, act)).collect::<Result<_, _>>()?;
        Ok(sides::acts(&answers))
    };
    if let Some(sides) = load::sides(&args.input, &asked, err, &mut answer)? {
        return load::print_sides(out, &sides, args.format != ActFormat::Text);
    }
    let whole = load::Whole::read(&args.input, &asked, err)?;
    let acts = gather(&args.input, &sentences, &args.file, (&whole.stage, &whole.names()), err)?;
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
fn asked(given: &[String], args: &Args) -> Result<Asked, Failure> {
    let mut sentences = given.to_vec();
    for path in args.file.iter().filter(|path| *path != std::path::Path::new("-")) {
        let text =
            Files::default().read(path).map_err(|error| Failure::File { path: path.clone(), error })?;
        sentences.extend(String::from_utf8_lossy(&text).lines().map(ToOwned::to_owned));
    }
    Ok(Asked::of(&sentences).about(&args.who.actor))
}
