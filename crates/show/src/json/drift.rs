//! Two trees of one disk for machines.

use std::io;

use mivask_core::drift::{Drift, StoredFacts};
use schemars::JsonSchema;
use serde::Serialize;

use super::{JsonPath, List};

/// One path that differs.
#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Drift")]
pub(super) struct DriftJson {
    path: JsonPath,
    /// `changed`, `appeared` or `gone`.
    what: &'static str,
    before: Option<StoredJson>,
    after: Option<StoredJson>,
    /// Entries below that appeared or are gone with it.
    below: usize,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Stored")]
struct StoredJson {
    kind: &'static str,
    disk_uid: Option<u32>,
    disk_gid: Option<u32>,
    #[schemars(regex(pattern = "^[0-7]{4}$"))]
    mode: Option<String>,
    acl: Option<String>,
    default_acl: Option<String>,
    target: Option<JsonPath>,
    capabilities: Option<String>,
}

impl StoredJson {
    fn new(facts: &StoredFacts) -> Self {
        let text = |text: &Option<std::sync::Arc<str>>| text.as_deref().map(str::to_owned);
        Self {
            kind: facts.kind.word(),
            disk_uid: facts.owner.map(|owner| owner.uid.raw()),
            disk_gid: facts.owner.map(|owner| owner.gid.raw()),
            mode: facts.mode.map(|mode| mode.to_string()),
            acl: text(&facts.acl),
            default_acl: text(&facts.default_acl),
            target: facts.target.as_deref().map(JsonPath::new),
            capabilities: text(&facts.capabilities),
        }
    }
}

/// Adds one path to the list `differences`.
///
/// # Errors
/// Whatever the list's writer refuses.
pub fn drift(list: &mut List<'_>, path: &[u8], one: &Drift) -> io::Result<()> {
    let (what, before, after, below) = match one {
        Drift::Changed { before, after } => ("changed", Some(before), Some(after), 0),
        Drift::Appeared { after, below } => ("appeared", None, Some(after), *below),
        Drift::Gone { before, below } => ("gone", Some(before), None, *below),
    };
    let (before, after) = (before.map(StoredJson::new), after.map(StoredJson::new));
    list.push(&DriftJson { path: JsonPath::new(path), what, before, after, below })
}
