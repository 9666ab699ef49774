//! `rehearse`: acts in order, each seeing what the earlier ones changed.

mod prompt;
mod script;

use std::io::{IsTerminal, Write};
use std::path::{Path, PathBuf};

use mivask_core::carry::Carried;
use mivask_core::rehearse::{Rehearsal, RehearsalStep};
use mivask_core::settle::Outcome;
use mivask_show::{json, text};

use crate::end::{End, Failure};
use crate::load;
use crate::options::{Acting, Commands, Format, Input};
use crate::reach::Asked;
use script::Script;

/// Acts in order, on a copy: each sees what the earlier ones changed.
///
/// Nothing on any disk is touched. After the acts come the directories that changed, before and after.
///
/// Besides the containers there is the actor `host`: root on the host, for setting things up. A line may also change the
/// scene: `gauge becomes 7102:7200`, `gauge umask 0002`, `host joins gauge to tides`. A line whose outcome depends on a
/// missing fact is not carried out. An expectation (`-> denied EACCES`) that does not hold makes the exit status 1.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  mivask rehearse tides.scene.yaml \\\n      'gauge creates /data/new.csv' 'press reads /data/new.csv'\n  mivask rehearse tides.scene.yaml day.acts --host\n  mivask rehearse tides.scene.yaml --interactive"
)]
pub(crate) struct Args {
    #[command(flatten)]
    input: Input,
    #[command(flatten)]
    who: Acting,
    /// Acts, each a single argument, or files of acts, one per line.
    #[arg(value_name = "ACTS")]
    acts: Vec<String>,
    /// A file of acts, one per line; `-` is standard input.
    #[arg(long = "acts", value_name = "FILE")]
    file: Vec<PathBuf>,
    /// Show owners as stored on disk, not as the actors see them.
    #[arg(long)]
    host: bool,
    /// Line by line at a prompt, with history, completion (Tab), `undo`, `why` and `list`.
    #[arg(long, conflicts_with_all = ["format", "commands", "undo"])]
    interactive: bool,
    #[command(flatten)]
    commands: Commands,
    /// How to print the answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    format: Format,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    if args.input.facts.runtime.len() > 1 {
        return Err(Failure::OneRuntimeAtATime("rehearse"));
    }
    let script = Script::read(args)?;
    let asked = Asked::of(&script.texts()).about(&args.who.actor);
    let asked = if args.interactive { asked.whole() } else { asked };
    let whole = load::Whole::read(&args.input, &asked, err)?;
    let script = script.numbered(&whole);
    let (scene, changes) = whole.into_scene();
    let mut rehearsal = Rehearsal::new(scene, &changes)?;
    let lines = script.sentences(rehearsal.stage(), err)?;
    let script = args.commands.commands || args.commands.undo;
    let text = args.format == Format::Text && !script;
    let layout = load::layout();
    for line in &lines {
        let step = line.rehearse(&mut rehearsal, err)?;
        if text {
            text::step(out, step, layout)?;
        }
    }
    if args.interactive {
        prompt::run(&mut rehearsal, args.host, out, err)?;
    } else if args.commands.print(&rehearsal, out)? {
        refused(&rehearsal, err)?;
    } else if text {
        text::listings(out, &rehearsal.listings(), args.host, layout)?;
        text::rehearsal_assumptions(out, rehearsal.steps(), layout)?;
    } else {
        json::rehearsed(out, rehearsal.steps(), &rehearsal.listings())?;
    }
    let broken = rehearsal.steps().iter().any(|step| step.holds() == Some(false));
    Ok(if broken { End::NotUpheld } else { End::Answered })
}

/// A script holds what was carried out: what was not is said beside it.
fn refused(rehearsal: &Rehearsal, err: &mut dyn Write) -> Result<(), Failure> {
    let not_done = |step: &&RehearsalStep| match step {
        RehearsalStep::Act { answer, carried } => {
            answer.outcome != Outcome::Allowed || matches!(carried, Carried::Open(_))
        }
        RehearsalStep::Several(several) => several.refused + several.open > 0,
        RehearsalStep::Change { .. } => false,
    };
    for step in rehearsal.steps().iter().filter(not_done) {
        let sentence = mivask_show::safe(&step.sentence());
        writeln!(err, "note: not carried out, or in part, and so not in the script: {sentence}")?;
    }
    Ok(())
}

/// A word without blanks names a file of acts.
fn is_file(text: &str) -> bool {
    !text.contains(char::is_whitespace) && (text == "-" || Path::new(text).exists())
}

impl Args {
    /// Whether each answer is waited for.
    pub(crate) const fn is_live(&self) -> bool {
        self.interactive
    }
}

/// Whether someone types.
fn is_typed() -> bool {
    std::io::stdin().is_terminal()
}
