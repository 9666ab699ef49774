//! Rehearsing line by line.

use std::io::Write;

use mivask_core::change::parse_sentence;
use mivask_core::rehearse::{Rehearsal, RehearsalStep};
use mivask_core::stage::Stage;
use mivask_read::diagnostic::Diagnostics;
use mivask_read::text::SourceText;
use mivask_show::text;
use rustyline::completion::Completer;
use rustyline::error::ReadlineError;
use rustyline::highlight::Highlighter;
use rustyline::hint::Hinter;
use rustyline::history::MemHistory;
use rustyline::validate::Validator;
use rustyline::{CompletionType, Config, Context, Editor, Helper};

use super::is_typed;
use crate::acts::mistake;
use crate::diagnostics;
use crate::end::Failure;
use crate::load;
use crate::next_word::{COMMANDS, complete};

/// What the line editor asks for completions.
struct Prompter {
    stage: Stage,
}

impl Helper for Prompter {}
impl Highlighter for Prompter {}
impl Validator for Prompter {}
impl Hinter for Prompter {
    type Hint = String;
}

impl Completer for Prompter {
    type Candidate = String;

    fn complete(
        &self,
        line: &str,
        cursor: usize,
        _: &Context<'_>,
    ) -> rustyline::Result<(usize, Vec<String>)> {
        Ok(complete(&self.stage, line, cursor))
    }
}

/// Reads lines until there are no more.
pub(super) fn run(
    rehearsal: &mut Rehearsal,
    host: bool,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<(), Failure> {
    let config = Config::builder().completion_type(CompletionType::List).build();
    let failed = |error: ReadlineError| Failure::Output(std::io::Error::other(error));
    let mut editor: Editor<Prompter, MemHistory> =
        Editor::with_history(config, MemHistory::new()).map_err(failed)?;
    if is_typed() {
        help(out)?;
    }
    loop {
        editor.set_helper(Some(Prompter { stage: rehearsal.stage().clone() }));
        let prompt = format!("{}> ", rehearsal.steps().len() + 1);
        out.flush()?;
        let line = match editor.readline(&prompt) {
            Ok(line) => line,
            // Ctrl-C drops the line, Ctrl-D ends.
            Err(ReadlineError::Interrupted) => continue,
            Err(ReadlineError::Eof) => return Ok(()),
            Err(error) => return Err(failed(error)),
        };
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        editor.add_history_entry(line).map_err(failed)?;
        if matches!(line, "quit" | "exit") {
            return Ok(());
        }
        typed(rehearsal, line, host, out, err)?;
    }
}

fn help(out: &mut dyn Write) -> Result<(), Failure> {
    writeln!(
        out,
        "Type acts, such as `gauge creates /data/x`, or a change, such as `gauge becomes 7102`. Tab completes."
    )?;
    for (command, what) in COMMANDS {
        writeln!(out, "  {command:<10} {what}")?;
    }
    Ok(())
}

fn typed(
    rehearsal: &mut Rehearsal,
    line: &str,
    host: bool,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<(), Failure> {
    let layout = load::layout();
    match line {
        "help" => help(out)?,
        "undo" => match rehearsal.undo() {
            Some(step) => writeln!(out, "taken back: {}", mivask_show::safe(&step.sentence()))?,
            None => writeln!(out, "there is nothing to take back")?,
        },
        "why" => match rehearsal.steps().iter().rev().find_map(RehearsalStep::answer) {
            Some(answer) => {
                let actor = rehearsal.stage().actor(&answer.act.actor)?;
                text::why(out, actor, answer, layout)?;
            }
            None => writeln!(out, "nothing was done yet")?,
        },
        "list" => text::listings(out, &rehearsal.listings(), host, layout)?,
        "list-host" => text::listings(out, &rehearsal.listings(), true, layout)?,
        line => sentence(rehearsal, line, out, err)?,
    }
    Ok(())
}

/// A mistake is pointed at, and the rehearsal goes on.
fn sentence(
    rehearsal: &mut Rehearsal,
    line: &str,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<(), Failure> {
    let number = rehearsal.steps().len() + 1;
    match parse_sentence(line) {
        Ok(sentence) => match rehearsal.next(&sentence) {
            Ok(step) => text::step(out, step, load::layout())?,
            Err(error) => writeln!(err, "error: {}", mivask_show::safe(&error.to_string()))?,
        },
        Err(error) => {
            let mut diagnostics = Diagnostics::default();
            mistake(&error, &SourceText::new(&format!("line {number}"), line), &mut diagnostics);
            diagnostics::report(&diagnostics, err)?;
        }
    }
    Ok(())
}
