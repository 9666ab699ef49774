//! `handoff` for machines.

use std::io::{self, Write};

use mivask_core::handoff::{Consumer, Creation, Handoff, Use, UseOutcome};
use schemars::JsonSchema;
use serde::Serialize;

use super::answers::ImprintJson;
use super::{JsonPath, document};

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Handoff")]
pub(super) struct HandoffJson<'a> {
    source: &'a str,
    directory: JsonPath,
    members: Vec<MemberJson<'a>>,
    creations: Vec<CreationJson<'a>>,
    assumptions: Vec<&'a str>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Member")]
struct MemberJson<'a> {
    actor: &'a str,
    path: JsonPath,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Creation")]
struct CreationJson<'a> {
    creator: &'a str,
    #[schemars(extend("enum" = ["allowed", "denied", "depends", "never-runs"]))]
    outcome: &'static str,
    errno: Option<&'static str>,
    why: Option<String>,
    file: Option<ImprintJson<'a>>,
    subdirectory: Option<ImprintJson<'a>>,
    file_in_subdirectory: Option<ImprintJson<'a>>,
    consumers: Vec<HandJson<'a>>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Consumer")]
struct HandJson<'a> {
    actor: &'a str,
    file: Option<DeedsJson>,
    file_in_subdirectory: Option<DeedsJson>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Deeds")]
struct DeedsJson {
    read: DoneJson,
    change: DoneJson,
    delete: DoneJson,
    replace: DoneJson,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "UseOutcome")]
struct DoneJson {
    #[schemars(extend("enum" = ["allowed", "denied", "depends", "never-runs"]))]
    outcome: &'static str,
    errno: Option<&'static str>,
    why: Option<String>,
}

impl DoneJson {
    fn new(done: &UseOutcome) -> Self {
        Self {
            outcome: done.outcome.word(),
            errno: done.outcome.errno().map(|errno| errno.name()),
            why: done.why.as_ref().map(ToString::to_string),
        }
    }
}

fn deeds(all: &[UseOutcome]) -> Option<DeedsJson> {
    let one = |deed: Use| all.get(deed as usize).map(DoneJson::new);
    Some(DeedsJson {
        read: one(Use::Read)?,
        change: one(Use::Change)?,
        delete: one(Use::Delete)?,
        replace: one(Use::Replace)?,
    })
}

impl<'a> CreationJson<'a> {
    fn new(creation: &'a Creation) -> Self {
        let hand = |hand: &'a Consumer| HandJson {
            actor: &hand.consumer,
            file: deeds(&hand.file),
            file_in_subdirectory: deeds(&hand.nested),
        };
        let DoneJson { outcome, errno, why } = DoneJson::new(&creation.creates);
        Self {
            creator: &creation.creator,
            outcome,
            errno,
            why,
            file: creation.file.as_ref().map(ImprintJson::new),
            subdirectory: creation.directory.as_ref().map(ImprintJson::new),
            file_in_subdirectory: creation.nested.as_ref().map(ImprintJson::new),
            consumers: creation.hands.iter().map(hand).collect(),
        }
    }
}

/// `handoff`: each shared directory, in the list `directories`.
///
/// # Errors
/// Whatever `out` refuses.
pub fn handoffs(out: &mut dyn Write, all: &[Handoff]) -> io::Result<()> {
    let rows = all.iter().map(|handoff| HandoffJson {
        source: &handoff.source,
        directory: JsonPath::new(&handoff.directory),
        members: handoff
            .members
            .iter()
            .map(|(actor, path)| MemberJson { actor, path: JsonPath::new(path) })
            .collect(),
        creations: handoff.creations.iter().map(CreationJson::new).collect(),
        assumptions: handoff.assumptions.iter().map(|text| &**text).collect(),
    });
    document(out, "directories", rows)
}
