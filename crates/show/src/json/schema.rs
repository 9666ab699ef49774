//! JSON Schemas of what is written, made of the types that write it.

use std::borrow::Cow;

use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};

use super::{
    Single, admits, answers, compare, confirm, decode, drift, exposure, handoff, mounts, overview, rehearse,
    remedy, tables, upheld,
};
use crate::sides;

/// A document that some command writes.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Document {
    /// `identity`
    Identity,
    /// `mounts`
    Mounts,
    /// `access`, and `access --tree --list`
    Access,
    /// `access --tree`
    AccessTree,
    /// `ask`
    Ask,
    /// One line of `ask --format jsonl`, and `why`
    Act,
    /// `imprint`
    Imprint,
    /// `rehearse`
    Rehearse,
    /// `handoff`
    Handoff,
    /// `admits PATH`
    Admits,
    /// `admits --actor`
    Reached,
    /// `exposure`
    Exposure,
    /// `compare`
    Compare,
    /// `compare` of two disks
    Drift,
    /// `remedy`
    Remedy,
    /// `remedy --acts`, `remedy --unmet`
    RemedyTogether,
    /// `remedy` of an act on a whole tree
    RemedyTree,
    /// `decode`
    Decode,
    /// `confirm`
    Confirm,
    /// `confirm --random`
    ConfirmRandom,
    /// `uphold`
    Uphold,
    /// Any question under several runtimes
    Runtimes,
}

impl Document {
    /// Every document.
    pub const ALL: [Self; 22] = [
        Self::Identity,
        Self::Mounts,
        Self::Access,
        Self::AccessTree,
        Self::Ask,
        Self::Act,
        Self::Imprint,
        Self::Rehearse,
        Self::Handoff,
        Self::Admits,
        Self::Reached,
        Self::Exposure,
        Self::Compare,
        Self::Drift,
        Self::Remedy,
        Self::RemedyTogether,
        Self::RemedyTree,
        Self::Decode,
        Self::Confirm,
        Self::ConfirmRandom,
        Self::Uphold,
        Self::Runtimes,
    ];

    /// The word for it; never changes once released.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Identity => "identity",
            Self::Mounts => "mounts",
            Self::Access => "access",
            Self::AccessTree => "access-tree",
            Self::Ask => "ask",
            Self::Act => "act",
            Self::Imprint => "imprint",
            Self::Rehearse => "rehearse",
            Self::Handoff => "handoff",
            Self::Admits => "admits",
            Self::Reached => "reached",
            Self::Exposure => "exposure",
            Self::Compare => "compare",
            Self::Drift => "drift",
            Self::Remedy => "remedy",
            Self::RemedyTogether => "remedy-together",
            Self::RemedyTree => "remedy-tree",
            Self::Decode => "decode",
            Self::Confirm => "confirm",
            Self::ConfirmRandom => "confirm-random",
            Self::Uphold => "uphold",
            Self::Runtimes => "runtimes",
        }
    }

    /// Its schema.
    #[must_use]
    pub fn schema(self) -> Schema {
        let schema = match self {
            Self::Identity => list::<tables::IdentityJson>("actors"),
            Self::Mounts => list::<mounts::MountJson<'_>>("mounts"),
            Self::Access => list::<tables::AccessJson<'_>>("rows"),
            Self::AccessTree => list::<overview::OverviewJson<'_>>("trees"),
            Self::Ask => list::<answers::ActJson<'_>>("acts"),
            Self::Act => whole::<Single<'_>>(),
            Self::Imprint => list::<tables::ImprintRowJson<'_>>("rows"),
            Self::Rehearse => whole::<rehearse::Rehearsed<'_>>(),
            Self::Handoff => list::<handoff::HandoffJson<'_>>("directories"),
            Self::Admits => list::<admits::AdmissionJson<'_>>("admissions"),
            Self::Reached => list::<admits::ReachedJson<'_>>("reached"),
            Self::Exposure => list::<exposure::FindingJson<'_>>("findings"),
            Self::Compare => whole::<compare::ComparedJson<'_>>(),
            Self::Drift => list::<drift::DriftJson>("differences"),
            Self::Remedy => whole::<remedy::RemediesJson<'_>>(),
            Self::RemedyTogether => whole::<remedy::TogetherJson<'_>>(),
            Self::RemedyTree => whole::<remedy::TreeJson<'_>>(),
            Self::Decode => list::<decode::ModeJson>("modes"),
            Self::Confirm => list::<confirm::HeldJson<'_>>("acts"),
            Self::ConfirmRandom => whole::<confirm::RandomJson<'_>>(),
            Self::Uphold => whole::<upheld::RunJson<'_>>(),
            Self::Runtimes => whole::<sides::Document<'_>>(),
        };
        let mut schema = titled(schema, self.word());
        super::names::in_schema(&mut schema);
        schema
    }
}

fn generator() -> SchemaGenerator {
    SchemaSettings::draft2020_12().for_serialize().into_generator()
}

fn whole<T: JsonSchema>() -> Schema {
    generator().into_root_schema_for::<T>()
}

/// A document with one list, `{"mivask": 1, "NAME": [...]}`.
fn list<T: JsonSchema>(name: &str) -> Schema {
    let mut generator = generator();
    let item = generator.subschema_for::<T>();
    let dialect = generator.settings().meta_schema.clone().unwrap_or(Cow::Borrowed(""));
    json_schema!({
        "$schema": dialect,
        "type": "object",
        "properties": { "mivask": { "const": 1 }, name: { "type": "array", "items": item } },
        "required": ["mivask", name],
        "$defs": generator.take_definitions(true),
    })
}

fn titled(mut schema: Schema, word: &str) -> Schema {
    schema.insert("title".to_owned(), format!("mivask {word}").into());
    schema
}
