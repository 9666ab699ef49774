//! `handoff` for machines.

use std::io::{self, Write};

use mivask_core::handoff::{Consumer, Creation, Handoff, PerUse, UseOutcome};
use schemars::JsonSchema;
use serde::Serialize;

use super::imprint::ImprintJson;
use super::usually::{UsualEndJson, UsualJson};
use super::{JsonPath, document};

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Handoff")]
pub(super) struct HandoffJson<'a> {
    source: &'a str,
    directory: JsonPath,
    members: Vec<MemberJson<'a>>,
    /// How many more reach it who have the ids, capabilities, image and path of a member.
    members_alike: usize,
    /// How many more reach it and are not compared.
    members_left_out: usize,
    creations: Vec<CreationJson<'a>>,
    assumptions: Vec<&'a str>,
    /// What `usually` rests on.
    as_usual: Vec<UsualJson<'a>>,
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
    /// Of what depends: what becomes of it where each missing fact is as usual (docs/usual.md).
    usually: Option<UsualCreationJson<'a>>,
    file: Option<ImprintJson<'a>>,
    subdirectory: Option<ImprintJson<'a>>,
    file_in_subdirectory: Option<ImprintJson<'a>>,
    consumers: Vec<ConsumerJson<'a>>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "UsualCreation")]
struct UsualCreationJson<'a> {
    #[serde(flatten)]
    end: UsualEndJson,
    file: Option<ImprintJson<'a>>,
    subdirectory: Option<ImprintJson<'a>>,
    file_in_subdirectory: Option<ImprintJson<'a>>,
}

impl<'a> UsualCreationJson<'a> {
    fn new(creation: &'a Creation) -> Option<Self> {
        let end = UsualEndJson::new(&creation.creates.usually.as_ref()?.outcome);
        let left = creation.usually.as_ref();
        Some(Self {
            end,
            file: left.and_then(|left| left.file.as_ref()).map(ImprintJson::new),
            subdirectory: left.and_then(|left| left.directory.as_ref()).map(ImprintJson::new),
            file_in_subdirectory: left.and_then(|left| left.nested.as_ref()).map(ImprintJson::new),
        })
    }
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Consumer")]
struct ConsumerJson<'a> {
    actor: &'a str,
    file: Option<PerUseJson>,
    file_in_subdirectory: Option<PerUseJson>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Deeds")]
struct PerUseJson {
    read: UseOutcomeJson,
    change: UseOutcomeJson,
    delete: UseOutcomeJson,
    replace: UseOutcomeJson,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "UseOutcome")]
struct UseOutcomeJson {
    #[schemars(extend("enum" = ["allowed", "denied", "depends", "never-runs"]))]
    outcome: &'static str,
    errno: Option<&'static str>,
    why: Option<String>,
    /// Of what depends: how it ends where each missing fact is as usual.
    usually: Option<UsualEndJson>,
}

impl UseOutcomeJson {
    fn new(done: &UseOutcome) -> Self {
        Self {
            outcome: done.outcome.word(),
            errno: done.outcome.errno().map(|errno| errno.name()),
            why: done.why.as_ref().map(ToString::to_string),
            usually: done.usually.as_ref().map(|usually| UsualEndJson::new(&usually.outcome)),
        }
    }
}

impl PerUseJson {
    fn new(all: &PerUse) -> Self {
        Self {
            read: UseOutcomeJson::new(&all.read),
            change: UseOutcomeJson::new(&all.change),
            delete: UseOutcomeJson::new(&all.delete),
            replace: UseOutcomeJson::new(&all.replace),
        }
    }
}

impl<'a> CreationJson<'a> {
    fn new(creation: &'a Creation) -> Self {
        let consumer = |one: &'a Consumer| ConsumerJson {
            actor: &one.consumer,
            file: one.file.as_ref().map(PerUseJson::new),
            file_in_subdirectory: one.nested.as_ref().map(PerUseJson::new),
        };
        let UseOutcomeJson { outcome, errno, why, usually: _ } = UseOutcomeJson::new(&creation.creates);
        Self {
            creator: &creation.creator,
            outcome,
            errno,
            why,
            usually: UsualCreationJson::new(creation),
            file: creation.file.as_ref().map(ImprintJson::new),
            subdirectory: creation.directory.as_ref().map(ImprintJson::new),
            file_in_subdirectory: creation.nested.as_ref().map(ImprintJson::new),
            consumers: creation.consumers.iter().map(consumer).collect(),
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
        members_alike: handoff.left_out.alike,
        members_left_out: handoff.left_out.others,
        creations: handoff.creations.iter().map(CreationJson::new).collect(),
        assumptions: handoff.assumptions.iter().map(|text| &**text).collect(),
        as_usual: handoff.rests_on.iter().map(UsualJson::new).collect(),
    });
    document(out, "directories", rows)
}
