//! Text folded at the width of a terminal.

use std::borrow::Cow;
use std::io::{self, Write};

use mivask_core::names::AccountNames;
use unicode_width::UnicodeWidthChar;

/// How text is laid out.
#[derive(Clone, Copy, Debug, Default)]
pub struct Layout<'a> {
    /// Columns of the terminal; `None` where the text does not go to one, so that nothing folds.
    pub width: Option<usize>,
    /// Whether every assumption is listed, also where that is longer than the answer.
    pub all_assumptions: bool,
    /// Whether every possibility of an answer that depends is listed.
    pub all_ways: bool,
    /// Whether what settles an answer is told below all of them.
    pub settled_below: bool,
    /// The account files whose names stand in place of ids; `None` where ids are wanted.
    pub names: Option<&'a AccountNames>,
    /// Whose place an answer is about, so that its names count.
    pub actor: &'a str,
}

impl<'a> Layout<'a> {
    /// The same for what is said about `actor`.
    #[must_use]
    pub const fn of<'b>(self, actor: &'b str) -> Layout<'b>
    where
        'a: 'b,
    {
        Layout { actor, ..self }
    }

    /// `text` with names in place of ids, where that is wanted.
    pub(crate) fn named<'t>(&self, text: &'t str) -> Cow<'t, str> {
        self.named_at(self.actor, text)
    }

    /// The same in the place of another actor.
    pub(crate) fn named_at<'t>(&self, actor: &str, text: &'t str) -> Cow<'t, str> {
        match self.names {
            Some(names) => Cow::Owned(names.in_text(actor, text)),
            None => Cow::Borrowed(text),
        }
    }

    /// The value of an identity's field, ids with their names beside them, where that is wanted.
    pub(crate) fn field(&self, field: &str, text: &str) -> String {
        match field {
            "uid" => self.beside(text, true),
            "gid" => self.beside(text, false),
            "groups" => text.split(',').map(|gid| self.beside(gid, false)).collect::<Vec<_>>().join(","),
            _ => text.to_owned(),
        }
    }

    /// An id of a user or a group with its name beside it, where that is wanted and known.
    pub(crate) fn beside(&self, text: &str, user: bool) -> String {
        let name = self.names.zip(text.parse().ok()).and_then(|(names, id)| {
            if user { names.user(self.actor, id) } else { names.group(self.actor, id) }
        });
        name.map_or_else(|| text.to_owned(), |name| format!("{text} ({})", crate::safe::safe(name)))
    }
}

/// A writer that counts the lines of an answer.
pub(crate) struct Counted<'a> {
    pub out: &'a mut dyn Write,
    /// Lines so far.
    pub lines: usize,
}

impl<'a> Counted<'a> {
    /// Nothing is written yet.
    pub(crate) fn new(out: &'a mut dyn Write) -> Self {
        Self { out, lines: 0 }
    }
}

impl Write for Counted<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.out.write(bytes)?;
        self.lines += bytes[..written].iter().filter(|byte| **byte == b'\n').count();
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

/// `text` folded at `width`, every line but the first indented by `indent`.
pub(crate) fn folded(text: &str, indent: usize, width: Option<usize>) -> String {
    let room = width.map_or(usize::MAX, |width| width.max(60).saturating_sub(indent));
    let mut out = String::new();
    let mut column = 0;
    for word in text.split(' ') {
        let length = columns(word);
        if column > 0 && column + 1 + length > room {
            out.push('\n');
            out.push_str(&" ".repeat(indent));
            column = 0;
        } else if column > 0 {
            out.push(' ');
            column += 1;
        }
        out.push_str(word);
        column += length;
    }
    out
}

/// How many columns `text` takes; colour codes take none.
pub(crate) fn columns(text: &str) -> usize {
    let mut count = 0;
    let mut in_code = false;
    for c in text.chars() {
        match (in_code, c) {
            (false, '\u{1b}') => in_code = true,
            (false, c) => count += c.width().unwrap_or_default(),
            (true, 'm') => in_code = false,
            (true, _) => {}
        }
    }
    count
}

/// `text` at `indent`, folded.
pub(crate) fn paragraph(
    out: &mut dyn Write,
    text: &str,
    indent: usize,
    layout: Layout<'_>,
) -> io::Result<()> {
    writeln!(out, "{}{}", " ".repeat(indent), folded(&layout.named(text), indent, layout.width))
}
