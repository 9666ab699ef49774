//! What was typed, and the help for it.

use std::ffi::{OsStr, OsString};
use std::fmt::Write;
use std::process::ExitCode;

use clap::builder::StyledStr;
use clap::builder::styling::Style;
use clap::{ArgAction, CommandFactory, FromArgMatches, Parser, Subcommand};
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};
use mivask_show::safe;

use crate::commands::{
    access, admits, ask, compare, completions, confirm, decode, demo, draft, exposure, handoff, identity,
    imprint, manual, mounts, rehearse, remedy, report, schema, survey, uphold, verdicts, why,
};
use crate::complete;
use crate::options::{Color, Paging};
use crate::terminal;

/// Predicts what a containerised process can do to files, before anything is deployed, and says why.
///
/// INPUT is a Kubernetes manifest, a Compose file, an OCI configuration, a folder of these, or a scene file that adds
/// facts about images, volumes and the host; `-` is standard input. Inputs are recognised by content.
#[derive(Debug, Parser)]
#[command(name = "mivask", version, max_term_width = MOST_COLUMNS)]
#[command(
    after_help = "Each command has --help with examples. Exit status: 0 answered; 1 an expectation does not hold, or a survey is incomplete; 2 unusable input; 3 confirm: nothing could be checked.\n\nTry it: mivask demo"
)]
pub(crate) struct Args {
    /// When to colour; NO_COLOR is obeyed too.
    #[arg(long, value_name = "WHEN", default_value = "auto", global = true, help_heading = OUTPUT)]
    pub color: Color,
    /// Whether long answers on a terminal go through $PAGER.
    #[arg(long, value_name = "WHEN", default_value = "auto", global = true, help_heading = OUTPUT)]
    pub pager: Paging,
    /// List every assumption, even if the list is longer than the answer; JSON always has them all.
    #[arg(long, global = true, help_heading = OUTPUT)]
    pub all_assumptions: bool,
    /// What answers leave out for length: every possibility of one that depends, mounts that every container has (mounts), and
    /// expectations that hold (uphold).
    #[arg(long, global = true, help_heading = OUTPUT)]
    pub all: bool,
    /// Names of users and groups in place of ids, as the account files of each place have them; JSON has both. Ids that
    /// they do not have stay numbers.
    #[arg(long, global = true, help_heading = OUTPUT)]
    pub names: bool,
    /// Only the answer and errors: no warnings, notes or progress.
    #[arg(short, long, global = true, conflicts_with = "verbose", help_heading = OUTPUT)]
    pub quiet: bool,
    /// Report on standard error what is read and how long it takes; twice: every file.
    #[arg(short, long, global = true, action = ArgAction::Count, help_heading = OUTPUT)]
    pub verbose: u8,

    #[command(subcommand)]
    pub command: Command,
}

/// What was typed, or what there is to say instead: help, the version, or what is wrong with it.
///
/// # Errors
/// That text. It repeats words that were typed only as they can be shown: a line end in one would end the line of the message.
pub(crate) fn typed(words: Vec<OsString>) -> Result<Args, clap::Error> {
    let parse = |words: &[OsString]| {
        command().try_get_matches_from(words).and_then(|matches| Args::from_arg_matches(&matches))
    };
    parse(&words).map_err(|error| {
        let shown: Vec<OsString> = words.iter().map(|word| safe(&word.to_string_lossy()).into()).collect();
        if !error.use_stderr() || shown == words {
            return error;
        }
        let message = safe(&error.to_string());
        parse(&shown).err().unwrap_or_else(|| command().error(error.kind(), message))
    })
}

/// Shows what there is to say instead of an answer, and gives the status to end with.
pub(crate) fn tell(told: &clap::Error) -> ExitCode {
    let text = told.render().ansi().to_string();
    let mut out: Box<dyn std::io::Write> = if told.use_stderr() {
        terminal::messages(Color::Auto, false)
    } else {
        Box::new(terminal::answers(Color::Auto, Paging::Never))
    };
    // Whoever closed the pipe wants no more of it.
    let _ = out.write_all(text.as_bytes()).and_then(|()| out.flush());
    u8::try_from(told.exit_code()).map_or(ExitCode::FAILURE, ExitCode::from)
}

/// The heading of options that every command has.
const OUTPUT: &str = "How it is shown";

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
    Uphold(uphold::Args),
    Report(report::Args),
    Confirm(confirm::Args),
    Decode(decode::Args),
    Survey(survey::Args),
    Verdicts(verdicts::Args),
    Draft(draft::Args),
    Demo(demo::Args),
    Schema(schema::Args),
    Completions(completions::Args),
    Manual(manual::Args),
}

impl Command {
    /// Whether it goes on until whoever started it ends it.
    pub(crate) const fn lasts(&self) -> bool {
        match self {
            Self::Rehearse(args) => args.is_live(),
            Self::Uphold(args) => args.is_live(),
            Self::Confirm(_)
            | Self::Survey(_)
            | Self::Identity(_)
            | Self::Mounts(_)
            | Self::Access(_)
            | Self::Ask(_)
            | Self::Why(_)
            | Self::Imprint(_)
            | Self::Handoff(_)
            | Self::Admits(_)
            | Self::Exposure(_)
            | Self::Compare(_)
            | Self::Remedy(_)
            | Self::Report(_)
            | Self::Draft(_)
            | Self::Verdicts(_)
            | Self::Decode(_)
            | Self::Demo(_)
            | Self::Schema(_)
            | Self::Completions(_)
            | Self::Manual(_) => false,
        }
    }

    /// Whether someone is to see it as it goes, so that nothing may be kept back.
    pub(crate) const fn is_live(&self) -> bool {
        self.lasts() || matches!(self, Self::Confirm(_) | Self::Survey(_))
    }
}

/// The commands as they are listed: what people do first comes first.
const GROUPS: [(&str, &[&str]); 6] = [
    ("Look around", &["identity", "mounts", "access"]),
    ("Try, and ask why not", &["ask", "why", "imprint", "rehearse", "handoff"]),
    ("Review", &["admits", "exposure"]),
    ("Change one thing", &["compare", "remedy"]),
    ("Hold the result", &["uphold", "report", "confirm"]),
    ("Beside these", &["survey", "verdicts", "draft", "decode", "demo", "schema", "completions", "manual"]),
];

/// The command line, with its commands in groups.
pub(crate) fn command() -> clap::Command {
    let command = completed(bare());
    let groups = groups(&command);
    let head = Style::new().bold().underline();
    command.before_help(groups).help_template(format!(
        "{{about-with-newline}}\n{{usage-heading}} {{usage}}\n\n{{before-help}}{head}{OUTPUT}:{head:#}\n{{options}}{{after-help}}",
    ))
}

/// Words that may stand where the cursor is.
type Completing = fn(&OsStr) -> Vec<CompletionCandidate>;

/// What completes the arguments of this name, in every command that has one.
const COMPLETED: [(&str, Completing); 8] = [
    ("actor", complete::actors),
    ("act", complete::act),
    ("acts", complete::act),
    ("paths", complete::inside),
    ("path", complete::inside),
    ("directories", complete::inside),
    ("below", complete::inside),
    ("directory", complete::inside),
];

/// The commands with what completes their arguments from the scene that is named.
fn completed(mut command: clap::Command) -> clap::Command {
    let names: Vec<String> = command.get_subcommands().map(|sub| sub.get_name().to_owned()).collect();
    for name in names {
        command = command.mut_subcommand(name, |mut sub| {
            for (id, completer) in COMPLETED {
                if sub.get_arguments().any(|arg| arg.get_id() == id) {
                    sub = sub.mut_arg(id, |arg| arg.add(ArgValueCompleter::new(completer)));
                }
            }
            sub
        });
    }
    command
}

/// The command line as it is declared.
pub(crate) fn bare() -> clap::Command {
    Args::command()
}

/// Columns taken by a command's name.
const INDENT: usize = 15;

/// Columns that help takes at most.
const MOST_COLUMNS: usize = 100;

fn groups(command: &clap::Command) -> StyledStr {
    let width = width().clamp(40, MOST_COLUMNS);
    let head = Style::new().bold().underline();
    let name = Style::new().bold();
    let mut text = String::new();
    for (title, commands) in GROUPS {
        // Writing to a String cannot fail.
        let _ = writeln!(text, "{head}{title}:{head:#}");
        for one in commands {
            let about = command.find_subcommand(one).and_then(clap::Command::get_about);
            let about = about.map(ToString::to_string).unwrap_or_default();
            let _ = writeln!(
                text,
                "  {name}{one}{name:#}{}{}",
                " ".repeat(INDENT - 2 - one.len()),
                folded(&about, width)
            );
        }
        text.push('\n');
    }
    text.into()
}

/// Columns that clap folds at, or it would fold again what is folded here: the terminal's, else `COLUMNS`.
fn width() -> usize {
    let terminal = terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
    let given = || std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
    terminal.or_else(given).unwrap_or(MOST_COLUMNS)
}

/// `text` folded behind the names of commands.
fn folded(text: &str, width: usize) -> String {
    let mut out = String::new();
    let mut column = INDENT;
    for word in text.split_whitespace() {
        let length = word.chars().count();
        if column > INDENT && column + 1 + length > width {
            out.push('\n');
            out.push_str(&" ".repeat(INDENT));
            column = INDENT;
        } else if column > INDENT {
            out.push(' ');
            column += 1;
        }
        out.push_str(word);
        column += length;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_command_is_listed_once() {
        let mut listed: Vec<&str> =
            GROUPS.iter().flat_map(|(_, commands)| commands.iter().copied()).collect();
        let command = bare();
        let mut there: Vec<&str> = command.get_subcommands().map(clap::Command::get_name).collect();
        listed.sort_unstable();
        there.sort_unstable();
        assert_eq!(listed, there);
        bare().debug_assert();
    }
}
