//! `why`: the full trace of one act.

use std::io::Write;

use mivask_core::names::AccountNames;
use mivask_core::question::ask;
use mivask_core::stage::Stage;
use mivask_show::sides;

use crate::acts::only;
use crate::end::{End, Failure};
use crate::load;
use crate::logged::Logged;
use crate::options::{Acting, Format, Input};
use crate::plain;
use crate::reach::Asked;

/// Every check behind one act, with its fact and where the fact came from.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example: mivask why pod.yaml 'gauge writes /data/level.csv'")]
pub(crate) struct Args {
    #[command(flatten)]
    input: Input,
    #[command(flatten)]
    who: Acting,
    /// The act, a single argument.
    act: String,
    /// How to print the answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    format: Format,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let logged = Logged::of(&args.act, &args.who.actor).transpose()?;
    let sentence = match &logged {
        Some(logged) => logged.acts().take(1).collect(),
        None => plain::spoken(&args.input, &args.who.actor, std::slice::from_ref(&args.act)),
    };
    let asked = Asked::of(&sentence).about(&args.who.actor);
    let sentence = sentence.concat();
    let mut answer = |(stage, names): (&Stage, &AccountNames), err: &mut dyn Write| {
        let answer = ask(stage, &only(&names.numbered(&sentence), stage, err)?)?;
        Ok(sides::acts(&[answer]))
    };
    if let Some(sides) = load::sides(&args.input, &asked, err, &mut answer)? {
        return load::print_sides(out, &sides, args.format == Format::Json);
    }
    let whole = load::Whole::read(&args.input, &asked, err)?;
    let sentence = whole.numbered(&[sentence]).concat();
    let stage = &whole.stage;
    let sentence = match &logged {
        Some(logged) => logged.choose(stage, err)?,
        None => sentence,
    };
    let act = only(&sentence, stage, err)?;
    whole.remark(std::slice::from_ref(&act), err)?;
    let answer = ask(stage, &act)?;
    match args.format {
        Format::Text => mivask_show::text::why(out, stage.actor(&act.actor)?, &answer, load::layout())?,
        Format::Json => mivask_show::json::why(out, &answer)?,
    }
    Ok(if answer.holds() == Some(false) { End::NotUpheld } else { End::Answered })
}
