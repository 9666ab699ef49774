//! `admits` for machines.

use std::io::{self, Write};

use mivask_core::question::{Admission, Column, Condition, Ids, Reached};
use schemars::JsonSchema;
use serde::Serialize;

use super::{JsonPath, List, document};

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Admission")]
pub(super) struct AdmissionJson<'a> {
    path: JsonPath,
    to: &'static str,
    source: Option<&'a str>,
    kind: Option<&'static str>,
    uid: Option<u32>,
    gid: Option<u32>,
    #[schemars(regex(pattern = "^[0-7]{4}$"))]
    mode: Option<String>,
    seen_by: &'a [String],
    anybody: bool,
    conditions: Vec<ConditionJson<'a>>,
    except: Vec<ConditionJson<'a>>,
    why: Option<String>,
    depends_on: Vec<&'a str>,
    cut_short: bool,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Condition")]
struct ConditionJson<'a> {
    uid: Option<u32>,
    groups: Vec<u32>,
    /// The one capability it takes; null for none, and for several.
    capability: Option<&'static str>,
    capabilities: Vec<&'static str>,
    /// Those whom it does not mean although they meet it.
    unless: Vec<IdsJson>,
    through: Vec<ThroughJson<'a>>,
    actors: &'a [String],
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Ids")]
struct IdsJson {
    uid: Option<u32>,
    groups: Vec<u32>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Through")]
struct ThroughJson<'a> {
    path: JsonPath,
    fact: &'a str,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Reached")]
pub(super) struct ReachedJson<'a> {
    actor: &'a str,
    to: &'static str,
    path: JsonPath,
    kind: &'static str,
    all_below: Option<usize>,
}

impl IdsJson {
    fn new(ids: &Ids) -> Self {
        Self { uid: ids.uid.map(|uid| uid.raw()), groups: ids.groups.iter().map(|gid| gid.raw()).collect() }
    }
}

impl<'a> ConditionJson<'a> {
    fn new(condition: &'a Condition) -> Self {
        let through = condition.through.iter();
        Self {
            uid: condition.uid.map(|uid| uid.raw()),
            groups: condition.groups.iter().map(|gid| gid.raw()).collect(),
            capability: match condition.capabilities.as_slice() {
                [one] => Some(one.name()),
                _ => None,
            },
            capabilities: condition.capabilities.iter().map(|capability| capability.name()).collect(),
            unless: condition.unless.iter().map(IdsJson::new).collect(),
            through: through.map(|(path, fact)| ThroughJson { path: JsonPath::new(path), fact }).collect(),
            actors: &condition.actors,
        }
    }
}

impl<'a> AdmissionJson<'a> {
    fn new(admission: &'a Admission) -> Self {
        let facts = admission.facts;
        Self {
            path: JsonPath::new(&admission.path),
            to: admission.to.word(),
            source: admission.source.as_deref(),
            kind: facts.map(|facts| facts.kind.word()),
            uid: facts.and_then(|facts| facts.uid).map(|uid| uid.raw()),
            gid: facts.and_then(|facts| facts.gid).map(|gid| gid.raw()),
            mode: facts.and_then(|facts| facts.mode).map(|mode| mode.to_string()),
            seen_by: &admission.seen_by,
            anybody: admission.anybody,
            conditions: admission.conditions.iter().map(ConditionJson::new).collect(),
            except: admission.except.iter().map(ConditionJson::new).collect(),
            why: admission.why.as_ref().map(ToString::to_string),
            depends_on: admission.depends_on.iter().map(String::as_str).collect(),
            cut_short: admission.cut_short,
        }
    }
}

/// `admits PATH`: each thing that actors see there, in the list `admissions`.
///
/// # Errors
/// Whatever `out` refuses.
pub fn admissions(out: &mut dyn Write, all: &[Admission]) -> io::Result<()> {
    document(out, "admissions", all.iter().map(AdmissionJson::new))
}

/// `admits` without a path: what one actor reaches, in the list `reached`.
///
/// # Errors
/// Whatever the output refuses.
pub fn reached(list: &mut List<'_>, actor: &str, to: Column, all: &[Reached]) -> io::Result<()> {
    all.iter().try_for_each(|one| {
        list.push(&ReachedJson {
            actor,
            to: to.word(),
            path: JsonPath::new(&one.path),
            kind: one.kind.word(),
            all_below: one.below,
        })
    })
}
