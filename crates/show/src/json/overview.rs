//! A whole tree for machines.

use mivask_core::question::{Cell, Ending, Overview, PathFacts};
use schemars::JsonSchema;
use serde::Serialize;

use super::JsonPath;
use super::usually::{UsualEndJson, UsualJson};

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Overview")]
pub(super) struct OverviewJson<'a> {
    actor: &'a str,
    when: &'a str,
    below: JsonPath,
    entries: u64,
    /// Whether the directory itself may hold more than is listed.
    unlisted: bool,
    shares: Vec<ShareJson>,
    blocking: u64,
    blockers: Vec<BlockerJson>,
    assumptions: Vec<&'a str>,
    /// What `usually` rests on.
    as_usual: Vec<UsualJson<'a>>,
}

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Share")]
struct ShareJson {
    act: &'static str,
    #[serde(flatten)]
    ending: EndingJson,
    above: bool,
    entries: u64,
    directories: u64,
}

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Ending")]
struct EndingJson {
    #[schemars(extend("enum" = ["allowed", "denied", "depends", "never-runs"]))]
    outcome: &'static str,
    errno: Option<&'static str>,
    check: Option<&'static str>,
    /// Of what depends: the usual outcome, where every missing fact that matters is usually one way (docs/usual.md).
    usually: Option<UsualEndJson>,
}

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Blocker")]
struct BlockerJson {
    path: JsonPath,
    #[serde(flatten)]
    facts: FactsJson,
    #[serde(flatten)]
    ending: EndingJson,
    entries: u64,
}

#[derive(Debug, Default, JsonSchema, Serialize)]
#[schemars(rename = "Facts")]
struct FactsJson {
    uid: Option<u32>,
    gid: Option<u32>,
    #[schemars(regex(pattern = "^[0-7]{4}$"))]
    mode: Option<String>,
}

impl FactsJson {
    fn new(facts: Option<&PathFacts>) -> Self {
        let Some(facts) = facts else { return Self::default() };
        Self {
            uid: facts.uid.map(|uid| uid.raw()),
            gid: facts.gid.map(|gid| gid.raw()),
            mode: facts.mode.map(|mode| mode.to_string()),
        }
    }
}

const fn outcome(cell: Cell) -> Option<&'static str> {
    match cell {
        Cell::Void => None,
        Cell::Allowed => Some("allowed"),
        Cell::Denied(_) => Some("denied"),
        Cell::Open => Some("depends"),
    }
}

impl EndingJson {
    fn new(ending: Ending) -> Self {
        let errno = match ending.cell {
            Cell::Denied(errno) => Some(errno.name()),
            Cell::Void | Cell::Allowed | Cell::Open => None,
        };
        let outcome = outcome(ending.cell).unwrap_or("void");
        Self {
            outcome,
            errno,
            check: ending.check.map(mivask_core::trace::Check::code),
            usually: ending.usually().as_ref().map(UsualEndJson::new),
        }
    }
}

impl<'a> OverviewJson<'a> {
    pub(super) fn new(overview: &'a Overview) -> Self {
        let shares = overview.shares.iter().map(|share| ShareJson {
            act: share.column.word(),
            ending: EndingJson::new(share.ending),
            above: share.shut,
            entries: share.entries,
            directories: share.directories,
        });
        let blockers = overview.blockers.iter().map(|blocker| BlockerJson {
            path: JsonPath::new(&blocker.path),
            facts: FactsJson::new(blocker.facts.as_ref()),
            ending: EndingJson::new(blocker.ending),
            entries: blocker.entries,
        });
        Self {
            actor: &overview.actor,
            when: &overview.when,
            below: JsonPath::new(&overview.start),
            entries: overview.entries,
            unlisted: overview.unlisted,
            shares: shares.collect(),
            blocking: overview.blocking,
            blockers: blockers.collect(),
            assumptions: overview.rests_on.assumptions.iter().map(|text| &**text).collect(),
            as_usual: overview.rests_on.usual.iter().map(UsualJson::new).collect(),
        }
    }
}
