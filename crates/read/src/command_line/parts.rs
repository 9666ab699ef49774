//! The options of one command of a script and where they stand, for those who edit it.

use std::collections::BTreeMap;
use std::ops::Range;

use mivask_core::runtime::Runtime;

use super::made::Made;
use super::pods::Pods;
use super::run::{Given, Reading};
use super::words::{Command, Variables, Word, commands};
use super::{making, options};
use crate::diagnostic::Diagnostics;
use crate::text::SourceText;

/// A command that makes a container.
pub(crate) struct Parts {
    pub engine: Runtime,
    pub options: Vec<Part>,
    /// The byte that a further option goes in front of.
    pub behind: usize,
}

/// One option of it.
pub(crate) struct Part {
    /// Its long name, without dashes.
    pub name: String,
    /// The bytes it takes, with the blanks in front of it.
    pub whole: Range<usize>,
    /// Its value, where it has one.
    pub value: Option<Value>,
}

/// The value of an option.
pub(crate) struct Value {
    /// What it is, as far as no shell is needed to know that.
    pub text: String,
    /// The word it is in.
    pub word: Range<usize>,
    /// What stands in front of it in that word, such as `--user=`.
    pub before: String,
}

/// The command of `text` that makes the container of this name.
pub(crate) fn parts(text: &str, name: &str) -> Option<Parts> {
    let source = SourceText::new("", text);
    let mut diagnostics = Diagnostics::default();
    let mut taken = BTreeMap::new();
    let mut volumes = Made::default();
    let pods = Pods::new();
    let all = commands(text, Variables::new());
    all.iter().find_map(|command| {
        let (engine, words) = making(command)?;
        let mut reading = Reading {
            source: &source,
            diagnostics: &mut diagnostics,
            folder: "",
            volumes: &mut volumes,
            pods: &pods,
        };
        let run = reading.run(engine, words, &mut taken)?;
        if run.name != name {
            return None;
        }
        let (given, rest) = reading.options(engine, words);
        let image = rest.first()?.span.start;
        let options = given.into_iter().map(|one| part(command, one)).collect();
        // `--` ends the options.
        let ends = before(command, image).filter(|word| word.text == "--");
        Some(Parts { engine, options, behind: ends.map_or(image, |word| word.span.start) })
    })
}

fn part(command: &Command, given: Given<'_>) -> Part {
    let at = &given.at.span;
    let value = given.value.map(|value| of(given.at, value));
    let end = value.as_ref().map_or(at.end, |value| value.word.end.max(at.end));
    let begin = before(command, at.start).map_or(at.start, |word| word.span.end);
    Part { name: options::long(&given.name).to_owned(), whole: begin..end, value }
}

/// The value of the option in the word `at`, which may hold both.
fn of(at: &Word, value: Word) -> Value {
    let together = at.span == value.span;
    let before = if together { at.text.strip_suffix(&value.text).unwrap_or_default() } else { "" };
    Value { before: before.to_owned(), text: value.text, word: value.span }
}

/// The word in front of the one that begins at `start`.
fn before(command: &Command, start: usize) -> Option<&Word> {
    command.words.iter().take_while(|word| word.span.start < start).last()
}
