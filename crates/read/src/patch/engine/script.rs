//! A command of a script: an option in front of the image, or another value where it has one.

use std::ops::Range;

use mivask_core::runtime::Runtime;

use super::super::PatchError;
use super::{At, Edits, Given, Options};
use crate::command_line::{Part, Parts, Value, parts};

/// A script being edited.
pub(super) struct Script<'t> {
    text: &'t str,
    parts: Parts,
    pub edits: Edits,
}

impl<'t> Script<'t> {
    /// The command of `text` that makes the container `name`.
    ///
    /// # Errors
    /// There is none.
    pub(super) fn open(text: &'t str, name: &str) -> Result<Self, PatchError> {
        let parts = parts(text, name).ok_or(PatchError::Lost)?;
        Ok(Self { text, parts, edits: Edits::default() })
    }

    fn of(&self, option: &str) -> impl Iterator<Item = (usize, &Part)> {
        self.parts.options.iter().enumerate().filter(move |(_, part)| part.name == option)
    }

    /// An option more, in the manner of those that are there.
    fn insert(&mut self, option: &str, value: Option<&str>) {
        let at = self.parts.behind;
        // One of a word with its value, or in two.
        let joined = |part: &Part| part.value.as_ref().is_some_and(|value| value.before.starts_with("--"));
        let between = if self.parts.options.iter().any(joined) { "=" } else { " " };
        let said = match value {
            Some(value) => format!("--{option}{between}{value}"),
            None => format!("--{option}"),
        };
        let line = self.text[..at].rfind('\n').map_or(0, |end| end + 1);
        let indent = &self.text[line..at];
        let before = &self.text[..line];
        let end = if before.ends_with("\r\n") { "\r\n" } else { "\n" };
        let goes_on = before.trim_end_matches(['\r', '\n']).ends_with('\\');
        let own_line = goes_on && indent.chars().all(char::is_whitespace);
        let rest = if own_line { format!(" \\{end}{indent}") } else { " ".to_owned() };
        self.edits.put(at..at, format!("{said}{rest}"));
    }

    /// A value as it stands there: its bytes, and what is within the quotes around it.
    fn raw(&self, value: &Value) -> Option<(Range<usize>, &str)> {
        let begin = value.word.start + value.before.len();
        let front = self.text.get(value.word.start..begin)?;
        let raw = self.text.get(begin..value.word.end)?;
        if front != value.before {
            return None;
        }
        let mut within = begin..value.word.end;
        for quote in ['"', '\''] {
            let inner = raw.strip_prefix(quote).and_then(|rest| rest.strip_suffix(quote));
            if inner.is_some_and(|inner| !inner.contains(quote)) {
                within = begin + 1..value.word.end - 1;
            }
        }
        Some((within.clone(), &self.text[within]))
    }
}

impl Options for Script<'_> {
    fn engine(&self) -> Runtime {
        self.parts.engine
    }

    fn values(&self, option: &str) -> Vec<Given> {
        let given = |(at, part): (usize, &Part)| {
            let value = part.value.as_ref()?;
            let raw = self.raw(value).map(|(_, raw)| raw.to_owned()).unwrap_or_default();
            Some(Given { text: value.text.clone(), raw, at: (at, 0) })
        };
        self.of(option).filter_map(given).collect()
    }

    fn set(&mut self, option: &str, value: &str) -> Result<(), PatchError> {
        let Some((at, _)) = self.of(option).last() else {
            self.insert(option, Some(value));
            return Ok(());
        };
        let Some(known) = &self.parts.options[at].value else { return Err(PatchError::Layout) };
        let word = known.word.clone();
        self.edits.put(word, format!("{}{value}", known.before));
        Ok(())
    }

    fn add(&mut self, option: &str, value: &str) -> Result<(), PatchError> {
        self.insert(option, Some(value));
        Ok(())
    }

    fn switch(&mut self, option: &str, on: bool) -> Result<(), PatchError> {
        let given: Vec<At> = self.of(option).map(|(at, _)| (at, 0)).collect();
        self.remove(&given);
        if on {
            self.insert(option, None);
        }
        Ok(())
    }

    fn replace(&mut self, (at, _): At, raw: &str) -> Result<(), PatchError> {
        let value = self.parts.options[at].value.as_ref().ok_or(PatchError::Layout)?;
        let (place, _) = self.raw(value).ok_or(PatchError::Layout)?;
        self.edits.put(place, raw.to_owned());
        Ok(())
    }

    fn remove(&mut self, at: &[At]) {
        for (one, _) in at {
            let place = self.parts.options[*one].whole.clone();
            self.edits.put(place, String::new());
        }
    }
}
