//! Rehearsing line by line.

use std::io::Write;

use mivask_core::act::{ActError, Subject, Verb, parse_act};
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
    current: String,
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
        Ok(complete(&self.stage, &self.current, line, cursor))
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
    // Who acts where a line begins with a verb.
    let mut current = String::new();
    loop {
        editor.set_helper(Some(Prompter { stage: rehearsal.stage().clone(), current: current.clone() }));
        let who =
            if current.is_empty() { String::new() } else { format!(" {}", mivask_show::safe(&current)) };
        let prompt = format!("{}{who}> ", rehearsal.steps().len() + 1);
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
        typed((rehearsal, &mut current), line, host, out, err)?;
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
    (rehearsal, current): (&mut Rehearsal, &mut String),
    line: &str,
    host: bool,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<(), Failure> {
    let layout = load::layout();
    let (command, rest) = line.split_once(char::is_whitespace).map_or((line, ""), |(a, b)| (a, b.trim()));
    // An actor may be called like a command; then a verb follows.
    let is_actor =
        rehearsal.stage().actor(command).is_ok() && rest.split_whitespace().next().is_some_and(is_verb);
    match command {
        _ if is_actor => sentence(rehearsal, line, out, err)?,
        "help" => help(out)?,
        "as" => become_one(rehearsal, current, rest, out, err)?,
        "undo" => undo(rehearsal, rest, out, err)?,
        "why" if !rest.is_empty() => {
            let act = rehearsal.numbered(&with_actor(current, rest));
            why(rehearsal, &act, out, err)?;
        }
        "why" => match rehearsal.steps().iter().rev().find_map(RehearsalStep::answer) {
            Some(answer) => {
                let actor = rehearsal.stage().actor(&answer.act.actor)?;
                text::why(out, actor, answer, layout)?;
            }
            None => writeln!(out, "nothing was done yet")?,
        },
        "list" | "list-host" => {
            let host = host || command == "list-host";
            if rest.is_empty() {
                text::listings(out, &rehearsal.listings(), host, layout)?;
            } else {
                list((rehearsal, current), rest, host, (out, err))?;
            }
        }
        _ => {
            let line = rehearsal.numbered(&with_actor(current, line));
            sentence(rehearsal, &line, out, err)?;
        }
    }
    Ok(())
}

fn is_verb(word: &str) -> bool {
    Verb::by_word(word).is_some()
}

/// The line of whoever acts where it begins with a verb.
fn with_actor(current: &str, line: &str) -> String {
    let first = line.split_whitespace().next().unwrap_or_default();
    if current.is_empty() || !is_verb(first) { line.to_owned() } else { format!("{current} {line}") }
}

/// `as NAME`: who acts from here on; nobody where no name follows.
fn become_one(
    rehearsal: &Rehearsal,
    current: &mut String,
    name: &str,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<(), Failure> {
    let name = Subject::named(name);
    if name.actor.is_empty() {
        current.clear();
        return Ok(writeln!(out, "every line names who acts")?);
    }
    match rehearsal.stage().actor(&name.actor) {
        Ok(_) => *current = name.to_string(),
        Err(error) => writeln!(err, "error: {}", mivask_show::safe(&error.to_string()))?,
    }
    Ok(())
}

fn undo(
    rehearsal: &mut Rehearsal,
    count: &str,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<(), Failure> {
    let count = if count.is_empty() { "1" } else { count };
    let Ok(count) = count.parse::<usize>() else {
        return Ok(writeln!(err, "error: write `undo`, or `undo N` for the last N lines")?);
    };
    if rehearsal.steps().is_empty() {
        return Ok(writeln!(out, "there is nothing to take back")?);
    }
    for _ in 0..count {
        let Some(step) = rehearsal.undo() else { break };
        writeln!(out, "taken back: {}", mivask_show::safe(&step.sentence()))?;
    }
    Ok(())
}

/// `why ACT`: every check of an act that is not done.
fn why(
    rehearsal: &mut Rehearsal,
    line: &str,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<(), Failure> {
    match parse_act(line) {
        Ok(act) => match rehearsal.ask(&act) {
            Ok(answer) => {
                let actor = rehearsal.stage().actor(&answer.act.actor)?;
                text::why(out, actor, &answer, load::layout())?;
            }
            Err(error) => writeln!(err, "error: {}", mivask_show::safe(&error.to_string()))?,
        },
        Err(error) => pointed_at(&error, "why", line, err)?,
    }
    Ok(())
}

/// `list DIRECTORY`, as whoever acts sees it.
fn list(
    (rehearsal, current): (&Rehearsal, &str),
    words: &str,
    host: bool,
    (out, err): (&mut dyn Write, &mut dyn Write),
) -> Result<(), Failure> {
    let last =
        rehearsal.steps().iter().rev().find_map(RehearsalStep::answer).map(|answer| answer.act.actor.clone());
    let who = if current.is_empty() { last.unwrap_or_default() } else { current.to_owned() };
    if who.is_empty() {
        return Ok(writeln!(err, "error: as whom? write `as NAME` first")?);
    }
    // The path is a word of the act language, with its quotes.
    let path = match parse_act(&format!("x lists {words}")) {
        Ok(act) => act.path,
        Err(error) => return pointed_at(&error, "list", &format!("x lists {words}"), err),
    };
    match rehearsal.listing_of(&who, &path) {
        Ok(Some(listing)) => text::listings(out, &[listing], host, load::layout())?,
        Ok(None) => {
            let path = mivask_core::act::quoted(&path);
            writeln!(err, "error: {} comes to no directory at {path}", mivask_show::safe(&who))?;
        }
        Err(error) => writeln!(err, "error: {}", mivask_show::safe(&error.to_string()))?,
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
        Err(error) => pointed_at(&error, &format!("line {number}"), line, err)?,
    }
    Ok(())
}

fn pointed_at(error: &ActError, name: &str, line: &str, err: &mut dyn Write) -> Result<(), Failure> {
    let mut diagnostics = Diagnostics::default();
    mistake(error, &SourceText::new(name, line), &mut diagnostics);
    diagnostics::report(&diagnostics, err)
}
