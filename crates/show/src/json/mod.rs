//! Answers for machines: one document a question, stable field names, every document with `"mivask": 1`.
//!
//! Ids are numbers, modes strings of four octal digits, absent parts null. A path is a string where
//! it is UTF-8 and `{"hex": "..."}` where it is not, so that no name is ever mangled.

mod admits;
mod answers;
mod compare;
mod confirm;
mod decode;
mod drift;
mod exposure;
mod handoff;
mod imprint;
mod mounts;
mod names;
mod overview;
mod place;
mod rehearse;
mod remedy;
mod schema;
mod tables;
mod upheld;
mod usually;

use std::io::{self, Write};

pub use admits::{admissions, reached};
pub use compare::compared;
pub use confirm::{confirmed, random_acts};
pub use decode::decoded;
pub use drift::drift;
pub use exposure::findings;
pub use handoff::handoffs;
pub use names::with_names;
pub use rehearse::rehearsed;
pub use remedy::{over_tree, remedies, together};
pub use schema::Document;
pub use upheld::upheld;

use mivask_core::question::{AccessRow, Answer, ImprintRow, MountRow, Overview, PathFacts, Swept};
use mivask_core::stage::Actor;
use schemars::JsonSchema;
use serde::Serialize;

/// The version of the machine formats.
const FORMAT: u8 = 1;

/// A path: text where it is UTF-8, hexadecimal bytes where it is not.
#[derive(Debug, JsonSchema, Serialize)]
#[serde(untagged)]
enum JsonPath {
    Text(String),
    Bytes { hex: String },
}

impl JsonPath {
    fn new(path: &[u8]) -> Self {
        match std::str::from_utf8(path) {
            Ok(text) => Self::Text(text.to_owned()),
            Err(_) => Self::Bytes { hex: path.iter().map(|byte| format!("{byte:02x}")).collect() },
        }
    }
}

/// A document with one list, such as `{"mivask": 1, "acts": [...]}`, written element by element.
pub struct List<'a> {
    out: &'a mut dyn Write,
    empty: bool,
}

impl<'a> List<'a> {
    /// Begins the document whose list is called `name`.
    ///
    /// # Errors
    /// Whatever `out` refuses.
    pub fn begin(out: &'a mut dyn Write, name: &str) -> io::Result<Self> {
        write!(out, "{{\n  \"mivask\": {FORMAT},\n  \"{name}\": [")?;
        Ok(Self { out, empty: true })
    }

    fn push(&mut self, item: &impl Serialize) -> io::Result<()> {
        self.out.write_all(if self.empty { b"\n" } else { b",\n" })?;
        self.empty = false;
        // A line's end within a text is escaped, so every one here is between fields.
        let text = mivask_disk::json::pretty_text(item)?;
        write!(self.out, "    {}", text.replace('\n', "\n    "))
    }

    /// Ends it.
    ///
    /// # Errors
    /// Whatever the output refuses.
    pub fn end(self) -> io::Result<()> {
        writeln!(self.out, "{}", if self.empty { "]\n}" } else { "\n  ]\n}" })
    }
}

fn document<T: Serialize>(out: &mut dyn Write, name: &str, items: impl Iterator<Item = T>) -> io::Result<()> {
    let mut list = List::begin(out, name)?;
    items.into_iter().try_for_each(|item| list.push(&item))?;
    list.end()
}

/// One act with the format's version in front.
#[derive(JsonSchema, Serialize)]
struct Single<'a> {
    mivask: u8,
    #[serde(flatten)]
    act: answers::ActJson<'a>,
    #[serde(skip_serializing_if = "Option::is_none")]
    trace: Option<Vec<answers::StepJson>>,
}

/// `ask`: every act with its outcome.
///
/// # Errors
/// Whatever `out` refuses.
pub fn acts(out: &mut dyn Write, answers: &[Answer]) -> io::Result<()> {
    document(out, "acts", answers.iter().map(answers::ActJson::new))
}

/// `ask --format jsonl`: one act a line.
///
/// # Errors
/// Whatever `out` refuses.
pub fn act_lines(out: &mut dyn Write, answers: &[Answer]) -> io::Result<()> {
    for answer in answers {
        let line = Single { mivask: FORMAT, act: answers::ActJson::new(answer), trace: None };
        mivask_disk::json::compact(out, &line)?;
        writeln!(out)?;
    }
    Ok(())
}

/// `why`: one act with its trace.
///
/// # Errors
/// Whatever `out` refuses.
pub fn why(out: &mut dyn Write, answer: &Answer) -> io::Result<()> {
    let trace = answer.steps.iter().enumerate().map(answers::StepJson::new).collect();
    let single = Single { mivask: FORMAT, act: answers::ActJson::new(answer), trace: Some(trace) };
    mivask_disk::json::pretty(out, &single)?;
    writeln!(out)
}

/// `identity`: every actor, in the list `actors`.
///
/// # Errors
/// Whatever the output refuses.
pub fn identities(list: &mut List<'_>, actors: &[Actor]) -> io::Result<()> {
    actors.iter().try_for_each(|actor| list.push(&tables::IdentityJson::new(actor)))
}

/// `mounts`: every mount of every actor, in the list `mounts`.
///
/// # Errors
/// Whatever the output refuses.
pub fn mounts(list: &mut List<'_>, rows: &[MountRow]) -> io::Result<()> {
    rows.iter().try_for_each(|row| list.push(&mounts::MountJson::new(row)))
}

/// `access`: every row of the matrix, in the list `rows`.
///
/// # Errors
/// Whatever the output refuses.
pub fn access(list: &mut List<'_>, rows: &[AccessRow]) -> io::Result<()> {
    rows.iter().try_for_each(|row| list.push(&tables::AccessJson::new(row)))
}

/// `access --tree`: the summary of one actor and directory, in the list `trees`.
///
/// # Errors
/// Whatever the output refuses.
pub fn overview(list: &mut List<'_>, found: &Overview) -> io::Result<()> {
    list.push(&overview::OverviewJson::new(found))
}

/// `access --tree --list`: one row, in the list `rows`.
///
/// # Errors
/// Whatever the output refuses.
pub fn swept(
    list: &mut List<'_>,
    actor: &str,
    swept: &Swept<'_>,
    facts: Option<&PathFacts>,
) -> io::Result<()> {
    list.push(&tables::AccessJson::swept(actor, swept, facts))
}

/// `imprint`: every actor, directory and kind, in the list `rows`.
///
/// # Errors
/// Whatever the output refuses.
pub fn imprints(list: &mut List<'_>, rows: &[ImprintRow]) -> io::Result<()> {
    rows.iter().try_for_each(|row| list.push(&tables::ImprintRowJson::new(row)))
}
