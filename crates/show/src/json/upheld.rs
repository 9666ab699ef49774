//! `uphold` for machines.

use std::io::{self, Write};
use std::sync::Arc;

use mivask_core::expect::{AcceptDepends, Against, Upheld};
use schemars::JsonSchema;
use serde::Serialize;

use super::place::PlaceJson;
use super::usually::UsualJson;
use super::{FORMAT, JsonPath};
use crate::upheld::Run;

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Run")]
pub(super) struct RunJson<'a> {
    mivask: u8,
    held: bool,
    summary: SummaryJson,
    inputs: Vec<InputJson<'a>>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Summary")]
struct SummaryJson {
    inputs: usize,
    unusable: usize,
    expectations: usize,
    holds: usize,
    broken: usize,
    depends: usize,
    meets_nothing: usize,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Input")]
struct InputJson<'a> {
    input: &'a str,
    unusable: Option<&'a str>,
    expectations: Vec<ExpectationJson<'a>>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Expectation")]
struct ExpectationJson<'a> {
    expectation: &'a str,
    from: PlaceJson,
    standing: &'static str,
    held: bool,
    checked: usize,
    against: Vec<AgainstJson<'a>>,
    more: usize,
    assumptions: &'a [Arc<str>],
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Against")]
struct AgainstJson<'a> {
    actor: &'a str,
    path: JsonPath,
    asked: &'a str,
    found: &'a str,
    fact: &'a str,
    from: PlaceJson,
    open: bool,
    /// What the missing facts usually are, where with those it is as expected (docs/usual.md).
    usual: Vec<UsualJson<'a>>,
    settle: &'a [String],
}

impl<'a> ExpectationJson<'a> {
    fn new(one: &'a Upheld, accept: AcceptDepends) -> Self {
        Self {
            expectation: &one.expected.text,
            from: PlaceJson::new(&one.expected.from),
            standing: one.standing.word(),
            held: one.is_held(accept),
            checked: one.checked,
            against: one.against.iter().map(AgainstJson::new).collect(),
            more: one.more,
            assumptions: &one.assumptions,
        }
    }
}

impl<'a> AgainstJson<'a> {
    fn new(one: &'a Against) -> Self {
        Self {
            actor: &one.actor,
            path: JsonPath::new(&one.path),
            asked: &one.asked,
            found: &one.found,
            fact: &one.fact,
            from: PlaceJson::new(&one.from),
            open: one.open,
            usual: one.usual.iter().map(UsualJson::new).collect(),
            settle: &one.settle,
        }
    }
}

/// `uphold`: each input with each expectation.
///
/// # Errors
/// Whatever `out` refuses.
pub fn upheld(out: &mut dyn Write, run: &Run) -> io::Result<()> {
    let counts = run.counts();
    let document = RunJson {
        mivask: FORMAT,
        held: run.is_held() && run.unusable() == 0,
        summary: SummaryJson {
            inputs: run.inputs.len(),
            unusable: run.unusable(),
            expectations: counts.all,
            holds: counts.holds,
            broken: counts.broken,
            depends: counts.depends,
            meets_nothing: counts.meets_nothing,
        },
        inputs: run
            .inputs
            .iter()
            .map(|input| InputJson {
                input: &input.input,
                unusable: input.unusable.as_deref(),
                expectations: input.held.iter().map(|one| ExpectationJson::new(one, run.accept)).collect(),
            })
            .collect(),
    };
    mivask_disk::json::pretty(out, &document)?;
    writeln!(out)
}
