//! Answers for machines: one document a question, stable field names, every document with `"mivask": 1`.
//!
//! Ids are numbers, modes strings of four octal digits, absent parts null. A path is a string where
//! it is UTF-8 and `{"hex": "..."}` where it is not, so that no name is ever mangled.

mod answers;
mod confirm;
mod tables;

use std::io::{self, Write};

pub use confirm::{confirmed, random_acts};

use mivask_core::ids::UNSPECIFIED_ID;
use mivask_core::question::{AccessRow, Answer, ImprintRow, MountRow};
use mivask_core::stage::Actor;
use serde::ser::SerializeMap;
use serde::{Serialize, Serializer};

/// The version of the machine formats.
const FORMAT: u8 = 1;

/// A path: text where it is UTF-8, hexadecimal bytes where it is not.
#[derive(Debug, Serialize)]
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

/// An id; null where it stands for "some id".
fn number(raw: u32) -> Option<u32> {
    (raw != UNSPECIFIED_ID).then_some(raw)
}

/// A document with one list, such as `{"mivask": 1, "acts": [...]}`.
fn document<T: Serialize>(out: &mut dyn Write, list: &str, items: impl Iterator<Item = T>) -> io::Result<()> {
    let items: Vec<T> = items.collect();
    let mut serializer = serde_json::Serializer::pretty(&mut *out);
    let mut fields = serializer.serialize_map(Some(2))?;
    fields.serialize_entry("mivask", &FORMAT)?;
    fields.serialize_entry(list, &items)?;
    fields.end()?;
    writeln!(out)
}

/// One act with the format's version in front.
#[derive(Serialize)]
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
        serde_json::to_writer(&mut *out, &line)?;
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
    serde_json::to_writer_pretty(&mut *out, &single)?;
    writeln!(out)
}

/// `identity`: every actor.
///
/// # Errors
/// Whatever `out` refuses.
pub fn identities(out: &mut dyn Write, actors: &[Actor]) -> io::Result<()> {
    document(out, "actors", actors.iter().map(tables::IdentityJson::new))
}

/// `mounts`: every mount of every actor.
///
/// # Errors
/// Whatever `out` refuses.
pub fn mounts(out: &mut dyn Write, rows: &[MountRow]) -> io::Result<()> {
    document(out, "mounts", rows.iter().map(tables::MountJson::new))
}

/// `access`: every row of the matrix.
///
/// # Errors
/// Whatever `out` refuses.
pub fn access(out: &mut dyn Write, rows: &[AccessRow]) -> io::Result<()> {
    document(out, "rows", rows.iter().map(tables::AccessJson::new))
}

/// `imprint`: every actor, directory and kind.
///
/// # Errors
/// Whatever `out` refuses.
pub fn imprints(out: &mut dyn Write, rows: &[ImprintRow]) -> io::Result<()> {
    document(out, "rows", rows.iter().map(tables::ImprintRowJson::new))
}
