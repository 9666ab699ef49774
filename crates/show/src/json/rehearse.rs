//! `rehearse` for machines.

use std::io::{self, Write};

use mivask_core::carry::Carried;
use mivask_core::question::{Line, Listed, Listing};
use mivask_core::rehearse::RehearsalStep;
use schemars::JsonSchema;
use serde::Serialize;

use super::answers::ActJson;
use super::{FORMAT, JsonPath};

#[derive(JsonSchema, Serialize)]
pub(super) struct Rehearsed<'a> {
    mivask: u8,
    steps: Vec<StepJson<'a>>,
    listings: Vec<ListingJson<'a>>,
}

#[derive(JsonSchema, Serialize)]
#[serde(untagged)]
#[schemars(rename = "Step")]
enum StepJson<'a> {
    Act {
        #[serde(flatten)]
        act: Box<ActJson<'a>>,
        carried_out: bool,
        not_carried_out: Option<&'a str>,
    },
    Several {
        act: String,
        actor: &'a str,
        /// How many were allowed, and are carried out.
        done: usize,
        /// How many were refused.
        refused: usize,
        /// How many depend on missing facts, and are not carried out.
        open: usize,
        expected: Option<String>,
        holds: Option<bool>,
        /// The first of those that were refused or depend on something.
        first: Vec<ActJson<'a>>,
    },
    Change {
        change: String,
        notes: &'a [String],
    },
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Listing")]
struct ListingJson<'a> {
    actor: &'a str,
    /// Others who changed something there and see the same.
    also: &'a [String],
    directory: JsonPath,
    source: &'a str,
    entries: Vec<EntryJson>,
    omitted: usize,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Entry")]
struct EntryJson {
    name: JsonPath,
    changed: bool,
    before: Option<LineJson>,
    after: Option<LineJson>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Line")]
struct LineJson {
    kind: &'static str,
    #[schemars(regex(pattern = "^[0-7]{4}$"))]
    mode: Option<String>,
    uid: Option<u32>,
    gid: Option<u32>,
    disk_uid: Option<u32>,
    disk_gid: Option<u32>,
    acl: Option<String>,
    target: Option<JsonPath>,
}

impl LineJson {
    fn new(line: &Line) -> Self {
        Self {
            kind: line.kind.word(),
            mode: line.mode.map(|mode| mode.to_string()),
            uid: line.uid.map(|id| id.raw()),
            gid: line.gid.map(|id| id.raw()),
            disk_uid: line.disk_uid.map(|id| id.raw()),
            disk_gid: line.disk_gid.map(|id| id.raw()),
            acl: line.acl.clone(),
            target: line.target.as_deref().map(JsonPath::new),
        }
    }
}

impl<'a> StepJson<'a> {
    fn new(step: &'a RehearsalStep) -> Self {
        match step {
            RehearsalStep::Act { answer, carried } => {
                let open = if let Carried::Open(reason) = carried { Some(&**reason) } else { None };
                Self::Act {
                    act: Box::new(ActJson::new(answer)),
                    carried_out: *carried == Carried::Out,
                    not_carried_out: open,
                }
            }
            RehearsalStep::Several(several) => Self::Several {
                act: several.act.to_string(),
                actor: &several.act.actor,
                done: several.done,
                refused: several.refused,
                open: several.open,
                expected: several.act.expected(),
                holds: several.holds(),
                first: several.first.iter().map(ActJson::new).collect(),
            },
            RehearsalStep::Change { change, notes, .. } => Self::Change { change: change.to_string(), notes },
        }
    }
}

impl<'a> ListingJson<'a> {
    fn new(listing: &'a Listing) -> Self {
        let entry = |entry: &Listed| EntryJson {
            name: JsonPath::new(&entry.name),
            changed: entry.changed(),
            before: entry.before.as_ref().map(LineJson::new),
            after: entry.after.as_ref().map(LineJson::new),
        };
        Self {
            actor: &listing.actor,
            also: &listing.also,
            directory: JsonPath::new(&listing.directory),
            source: &listing.source,
            entries: listing.entries.iter().map(entry).collect(),
            omitted: listing.omitted,
        }
    }
}

/// `rehearse`: the lines in order in `steps`, and the directories that changed in `listings`.
///
/// # Errors
/// Whatever `out` refuses.
pub fn rehearsed(out: &mut dyn Write, steps: &[RehearsalStep], listings: &[Listing]) -> io::Result<()> {
    let rehearsed = Rehearsed {
        mivask: FORMAT,
        steps: steps.iter().map(StepJson::new).collect(),
        listings: listings.iter().map(ListingJson::new).collect(),
    };
    mivask_disk::json::pretty(out, &rehearsed)?;
    writeln!(out)
}
