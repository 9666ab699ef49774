//! `compare` for machines.

use std::io::{self, Write};

use mivask_core::mode::symbolic;
use mivask_core::question::{FileChange, OutcomeChange, PathFacts};
use schemars::JsonSchema;
use serde::Serialize;

use super::{FORMAT, JsonPath};
use crate::compare::{Compared, word};
use crate::sides::Facet;

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Compared")]
pub(super) struct ComparedJson<'a> {
    mivask: u8,
    partial: bool,
    identities: Vec<FacetJson<'a>>,
    mounts: Vec<FacetJson<'a>>,
    files: Vec<FileJson<'a>>,
    opened: Vec<OutcomeJson<'a>>,
    closed: Vec<OutcomeJson<'a>>,
    otherwise: Vec<OutcomeJson<'a>>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Facet")]
struct FacetJson<'a> {
    about: &'a str,
    what: &'static str,
    before: Option<&'a str>,
    after: Option<&'a str>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "File")]
struct FileJson<'a> {
    path: JsonPath,
    seen_by: Vec<&'a str>,
    before: Option<FactsJson>,
    after: Option<FactsJson>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Facts")]
struct FactsJson {
    kind: &'static str,
    uid: Option<u32>,
    gid: Option<u32>,
    #[schemars(regex(pattern = "^[0-7]{4}$"))]
    mode: Option<String>,
    letters: Option<String>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Outcome")]
struct OutcomeJson<'a> {
    actor: &'a str,
    what: &'static str,
    before: &'static str,
    after: &'static str,
    paths: Vec<JsonPath>,
}

impl FactsJson {
    fn new(facts: PathFacts) -> Self {
        Self {
            kind: facts.kind.word(),
            uid: facts.uid.map(|id| id.raw()),
            gid: facts.gid.map(|id| id.raw()),
            mode: facts.mode.map(|mode| mode.to_string()),
            letters: facts.mode.map(|mode| symbolic(facts.kind, mode)),
        }
    }
}

impl<'a> OutcomeJson<'a> {
    fn new(row: &'a OutcomeChange) -> Self {
        Self {
            actor: &row.actor,
            what: row.column.word(),
            before: word(row.before),
            after: word(row.after),
            paths: row.paths.iter().map(|path| JsonPath::new(path)).collect(),
        }
    }
}

fn facets(rows: &[(Facet, Option<String>)]) -> Vec<FacetJson<'_>> {
    let rows = rows.iter();
    rows.map(|(facet, after)| FacetJson {
        about: &facet.subject,
        what: facet.field,
        before: Some(facet.value.as_str()).filter(|value| !value.is_empty()),
        after: after.as_deref(),
    })
    .collect()
}

fn file(row: &FileChange) -> FileJson<'_> {
    FileJson {
        path: JsonPath::new(&row.path),
        seen_by: row.actor.split(", ").collect(),
        before: row.before.map(FactsJson::new),
        after: row.after.map(FactsJson::new),
    }
}

fn outcomes(rows: &[OutcomeChange]) -> Vec<OutcomeJson<'_>> {
    rows.iter().map(OutcomeJson::new).collect()
}

/// `compare`: what differs, in one list for each cause.
///
/// # Errors
/// Whatever `out` refuses.
pub fn compared(out: &mut dyn Write, compared: &Compared) -> io::Result<()> {
    let document = ComparedJson {
        mivask: FORMAT,
        partial: compared.partial,
        identities: facets(&compared.identities),
        mounts: facets(&compared.mounts),
        files: compared.files.iter().map(file).collect(),
        opened: outcomes(&compared.opened),
        closed: outcomes(&compared.closed),
        otherwise: outcomes(&compared.other),
    };
    mivask_disk::json::pretty(out, &document)?;
    writeln!(out)
}
