//! `exposure` for machines.

use std::io::{self, Write};

use mivask_core::exposure::Finding;
use schemars::JsonSchema;
use serde::Serialize;

use super::{JsonPath, document};

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Finding")]
pub(super) struct FindingJson<'a> {
    finding: &'static str,
    severity: &'static str,
    on: &'a str,
    paths: Vec<JsonPath>,
    actors: &'a [String],
    fact: &'a str,
    consequence: &'a str,
    from: String,
    declared: bool,
    /// Whether it depends on missing facts, and is so where each is as usual (docs/usual.md).
    usually: bool,
    accepted: Option<AcceptedJson<'a>>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Accepted")]
struct AcceptedJson<'a> {
    reason: &'a str,
    from: String,
}

/// `exposure`: each finding, in the list `findings`.
///
/// # Errors
/// Whatever `out` refuses.
pub fn findings(out: &mut dyn Write, all: &[Finding]) -> io::Result<()> {
    let rows = all.iter().map(|finding| FindingJson {
        finding: finding.kind.word(),
        severity: finding.severity.word(),
        on: &finding.on,
        paths: finding.paths.iter().map(|path| JsonPath::new(path)).collect(),
        actors: &finding.actors,
        fact: &finding.fact,
        consequence: &finding.consequence,
        from: finding.from.to_string(),
        declared: finding.declared,
        usually: finding.usual,
        accepted: finding
            .accepted
            .as_ref()
            .map(|accepted| AcceptedJson { reason: &accepted.reason, from: accepted.from.to_string() }),
    });
    document(out, "findings", rows)
}
