//! Acts and their traces.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_core::caps::Capability;
use mivask_core::outcome::RunsAs;
use mivask_core::question::Answer;
use mivask_core::settle::{Dependence, Outcome};
use mivask_core::trace::{Step, StepResult};
use schemars::JsonSchema;
use serde::Serialize;

use super::JsonPath;
use super::imprint::ImprintJson;
use super::place::PlaceJson;
use super::usually::UsuallyJson;

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Act")]
pub(super) struct ActJson<'a> {
    act: String,
    actor: &'a str,
    #[schemars(extend("enum" = ["allowed", "denied", "depends", "never-runs"]))]
    outcome: &'static str,
    errno: Option<&'static str>,
    /// Every errno that it may end with, where it may be denied; one where that is certain.
    errnos: BTreeSet<&'static str>,
    /// The check that decides; null where that depends on a missing fact, or where no check does.
    reason: Option<ReasonJson>,
    /// Where a name on the path is missing: the path with the name that is nearly it.
    nearest: Option<JsonPath>,
    refusal: Option<RefusalJson<'a>>,
    imprint: Option<ImprintJson<'a>>,
    runs_as: Option<RunsAsJson>,
    depends_on: Vec<DependenceJson<'a>>,
    /// How it ends where every missing fact that matters is as usual (docs/usual.md); the outcome is `depends` all the same.
    usually: Option<UsuallyJson<'a>>,
    assumptions: &'a [Arc<str>],
    expected: Option<String>,
    holds: Option<bool>,
}

impl<'a> ActJson<'a> {
    pub(super) fn new(answer: &'a Answer) -> Self {
        let refusal = match &answer.outcome {
            Outcome::NeverRuns(refusal) => Some(RefusalJson::new(refusal)),
            Outcome::Allowed | Outcome::Denied(_) | Outcome::Depends => None,
        };
        Self {
            act: answer.act.to_string(),
            actor: &answer.actor,
            outcome: answer.outcome.word(),
            errno: answer.outcome.errno().map(|errno| errno.name()),
            errnos: possible_errnos(answer),
            reason: answer.deciding().filter(|_| answer.depends_on.is_empty()).map(ReasonJson::new),
            nearest: answer.nearest.as_deref().map(JsonPath::new),
            refusal,
            imprint: answer.effect.imprint.as_ref().map(ImprintJson::new),
            runs_as: answer.effect.runs_as.map(RunsAsJson::new),
            depends_on: answer.depends_on.iter().map(DependenceJson::new).collect(),
            usually: answer.usually.as_ref().map(UsuallyJson::new),
            assumptions: &answer.assumptions,
            expected: answer.act.expected(),
            holds: answer.holds(),
        }
    }
}

fn possible_errnos(answer: &Answer) -> BTreeSet<&'static str> {
    let possible = answer.depends_on.iter().filter_map(|one| one.end.errno());
    possible.chain(answer.outcome.errno()).map(|errno| errno.name()).collect()
}

/// The check that decides an act.
#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Reason")]
struct ReasonJson {
    /// What it looked at, as walked so far.
    path: JsonPath,
    /// Which check: of the bits and ACLs, the class that the actor is in.
    check: &'static str,
    /// The fact, in words.
    fact: String,
    /// What the act needs of the class, such as `-w-`; null for every other check.
    needed: Option<String>,
    /// What the class has.
    granted: Option<String>,
    /// Where the fact was read.
    from: PlaceJson,
}

impl ReasonJson {
    fn new(step: &Step) -> Self {
        Self {
            path: JsonPath::new(&step.path),
            check: step.check.code(),
            fact: step.fact.clone(),
            needed: step.bits.map(|bits| bits.needed.to_string()),
            granted: step.bits.map(|bits| bits.granted.to_string()),
            from: PlaceJson::new(&step.from),
        }
    }
}

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Refusal")]
pub(super) struct RefusalJson<'a> {
    class: &'static str,
    reason: &'a str,
    from: String,
}

impl<'a> RefusalJson<'a> {
    pub(super) fn new(refusal: &'a mivask_core::refusal::Refusal) -> Self {
        Self { class: refusal.class.word(), reason: &refusal.reason, from: refusal.from.to_string() }
    }
}

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "RunsAs")]
pub(super) struct RunsAsJson {
    uid: Option<u32>,
    gid: Option<u32>,
    capabilities: Vec<&'static str>,
}

impl RunsAsJson {
    pub(super) fn new(runs_as: RunsAs) -> Self {
        Self {
            uid: runs_as.uid.id().map(|id| id.raw()),
            gid: runs_as.gid.id().map(|id| id.raw()),
            capabilities: runs_as.effective.iter().map(Capability::name).collect(),
        }
    }
}

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Dependence")]
pub(super) struct DependenceJson<'a> {
    fact: &'a str,
    when: String,
    #[schemars(extend("enum" = ["allowed", "denied", "depends", "never-runs"]))]
    outcome: &'static str,
    errno: Option<&'static str>,
    imprint: Option<ImprintJson<'a>>,
    settle: &'a [Arc<str>],
}

impl<'a> DependenceJson<'a> {
    pub(super) fn new(one: &'a Dependence) -> Self {
        Self {
            fact: &one.fact,
            when: one.when(),
            outcome: one.end.word(),
            errno: one.end.errno().map(|errno| errno.name()),
            imprint: one.end.effect().and_then(|effect| effect.imprint.as_ref()).map(ImprintJson::new),
            settle: &one.settle,
        }
    }
}

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Step")]
pub(super) struct StepJson {
    step: usize,
    path: JsonPath,
    check: &'static str,
    fact: String,
    from: String,
    result: &'static str,
}

impl StepJson {
    pub(super) fn new((index, step): (usize, &Step)) -> Self {
        Self {
            step: index + 1,
            path: JsonPath::new(&step.path),
            check: step.check.code(),
            fact: step.fact.clone(),
            from: step.from.to_string(),
            result: match step.result {
                StepResult::Passed => "passed",
                StepResult::Failed(errno) => errno.name(),
            },
        }
    }
}
