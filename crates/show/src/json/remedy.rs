//! `remedy` for machines.

use std::io::{self, Write};

use mivask_core::question::OutcomeChange;
use mivask_core::remedy::{Remedies, Remedy};
use schemars::JsonSchema;
use serde::Serialize;

use super::answers::ActJson;
use super::{FORMAT, JsonPath};
use crate::remedy::Written;
use crate::shell;

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Remedies")]
pub(super) struct RemediesJson<'a> {
    mivask: u8,
    act: ActJson<'a>,
    remedies: Vec<RemedyJson<'a>>,
    hint: Option<&'a str>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Remedy")]
struct RemedyJson<'a> {
    changes: Vec<ChangeJson>,
    opens: usize,
    opened: Vec<OpenedJson<'a>>,
    opens_partial: bool,
    inodes: usize,
    undone: Option<&'a str>,
    notes: &'a [String],
    commands: Vec<String>,
    file: Option<&'a str>,
    diff: &'a str,
    not_written: &'a [String],
    then: ActJson<'a>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Change")]
struct ChangeJson {
    side: &'static str,
    change: String,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Opened")]
struct OpenedJson<'a> {
    actor: &'a str,
    what: &'static str,
    paths: Vec<JsonPath>,
}

fn opened(row: &OutcomeChange) -> OpenedJson<'_> {
    OpenedJson {
        actor: &row.actor,
        what: row.column.word(),
        paths: row.paths.iter().map(|path| JsonPath::new(path)).collect(),
    }
}

impl<'a> RemedyJson<'a> {
    fn new((remedy, written): (&'a Remedy, &'a Written)) -> Self {
        Self {
            changes: remedy
                .steps
                .iter()
                .map(|step| ChangeJson { side: step.side.word(), change: step.change.to_string() })
                .collect(),
            opens: remedy.opens(),
            opened: remedy.opened.iter().map(opened).collect(),
            opens_partial: remedy.partial,
            inodes: remedy.inodes,
            undone: remedy.undone.as_deref(),
            notes: &remedy.notes,
            commands: shell::commands(remedy),
            file: written.file.as_deref(),
            diff: &written.diff,
            not_written: &written.problems,
            then: ActJson::new(&remedy.answer),
        }
    }
}

/// `remedy`: the act as it is, and each remedy with what to paste, in the list `remedies`.
///
/// # Errors
/// Whatever `out` refuses.
pub fn remedies(out: &mut dyn Write, found: &Remedies, written: &[Written]) -> io::Result<()> {
    let document = RemediesJson {
        mivask: FORMAT,
        act: ActJson::new(&found.answer),
        remedies: found.remedies.iter().zip(written).map(RemedyJson::new).collect(),
        hint: found.hint.as_deref(),
    };
    mivask_disk::json::pretty(out, &document)?;
    writeln!(out)
}
