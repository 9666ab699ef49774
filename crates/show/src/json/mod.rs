//! Answers for machines: one document a question, stable field names, every document with `"mivask": 1`.
//!
//! Ids are numbers, modes strings of four octal digits, absent parts null. A path is a string where
//! it is UTF-8 and `{"hex": "..."}` where it is not, so that no name is ever mangled.

mod answers;
mod tables;

use std::io::{self, Write};

use mivask_core::ids::UNSPECIFIED_ID;
use mivask_core::question::{AccessRow, Answer, ImprintRow, MountRow};
use mivask_core::stage::{Actor, Stage};
use serde::Serialize;

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

fn write(out: &mut dyn Write, document: &impl Serialize) -> io::Result<()> {
    serde_json::to_writer_pretty(&mut *out, document)?;
    writeln!(out)
}

/// `ask`: every act with its outcome.
///
/// # Errors
/// Whatever `out` refuses.
pub fn acts(out: &mut dyn Write, answers: &[Answer]) -> io::Result<()> {
    #[derive(Serialize)]
    struct Document<'a> {
        mivask: u8,
        acts: Vec<answers::ActJson<'a>>,
    }
    write(out, &Document { mivask: FORMAT, acts: answers.iter().map(answers::ActJson::new).collect() })
}

/// `ask --format jsonl`: one act a line.
///
/// # Errors
/// Whatever `out` refuses.
pub fn act_lines(out: &mut dyn Write, answers: &[Answer]) -> io::Result<()> {
    #[derive(Serialize)]
    struct Line<'a> {
        mivask: u8,
        #[serde(flatten)]
        act: answers::ActJson<'a>,
    }
    for answer in answers {
        serde_json::to_writer(&mut *out, &Line { mivask: FORMAT, act: answers::ActJson::new(answer) })?;
        writeln!(out)?;
    }
    Ok(())
}

/// `why`: one act with its trace.
///
/// # Errors
/// Whatever `out` refuses.
pub fn why(out: &mut dyn Write, answer: &Answer) -> io::Result<()> {
    #[derive(Serialize)]
    struct Document<'a> {
        mivask: u8,
        #[serde(flatten)]
        act: answers::ActJson<'a>,
        trace: Vec<answers::StepJson>,
    }
    let trace = answer.steps.iter().enumerate().map(answers::StepJson::new).collect();
    write(out, &Document { mivask: FORMAT, act: answers::ActJson::new(answer), trace })
}

/// `identity`: every actor.
///
/// # Errors
/// Whatever `out` refuses.
pub fn identities(out: &mut dyn Write, stage: &Stage, actors: &[&Actor]) -> io::Result<()> {
    #[derive(Serialize)]
    struct Document {
        mivask: u8,
        actors: Vec<tables::IdentityJson>,
    }
    let actors = actors.iter().map(|actor| tables::IdentityJson::new(stage, actor)).collect();
    write(out, &Document { mivask: FORMAT, actors })
}

/// `mounts`: every mount of every actor.
///
/// # Errors
/// Whatever `out` refuses.
pub fn mounts(out: &mut dyn Write, rows: &[MountRow]) -> io::Result<()> {
    #[derive(Serialize)]
    struct Document<'a> {
        mivask: u8,
        mounts: Vec<tables::MountJson<'a>>,
    }
    write(out, &Document { mivask: FORMAT, mounts: rows.iter().map(tables::MountJson::new).collect() })
}

/// `access`: every row of the matrix.
///
/// # Errors
/// Whatever `out` refuses.
pub fn access(out: &mut dyn Write, rows: &[AccessRow]) -> io::Result<()> {
    #[derive(Serialize)]
    struct Document<'a> {
        mivask: u8,
        rows: Vec<tables::AccessJson<'a>>,
    }
    write(out, &Document { mivask: FORMAT, rows: rows.iter().map(tables::AccessJson::new).collect() })
}

/// `imprint`: every actor, directory and kind.
///
/// # Errors
/// Whatever `out` refuses.
pub fn imprints(out: &mut dyn Write, rows: &[ImprintRow]) -> io::Result<()> {
    #[derive(Serialize)]
    struct Document<'a> {
        mivask: u8,
        rows: Vec<tables::ImprintRowJson<'a>>,
    }
    write(out, &Document { mivask: FORMAT, rows: rows.iter().map(tables::ImprintRowJson::new).collect() })
}
