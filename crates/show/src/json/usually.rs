//! What is usual.

use mivask_core::settle::Outcome;
use mivask_core::usual::Usual;
use mivask_core::usually::Usually;
use schemars::JsonSchema;
use serde::Serialize;

use super::imprint::ImprintJson;

/// How something that depends usually ends.
#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Usually")]
pub(super) struct UsuallyJson<'a> {
    #[serde(flatten)]
    end: UsualEndJson,
    imprint: Option<ImprintJson<'a>>,
    rests_on: Vec<UsualJson<'a>>,
}

/// The ending alone.
#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "UsualEnd")]
pub(super) struct UsualEndJson {
    #[schemars(extend("enum" = ["allowed", "denied"]))]
    outcome: &'static str,
    errno: Option<&'static str>,
}

/// One fact that is usual.
#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Usual")]
pub(super) struct UsualJson<'a> {
    /// Its heading in docs/usual.md.
    rule: &'static str,
    /// What is taken to be so.
    says: &'a str,
}

impl<'a> UsuallyJson<'a> {
    pub(super) fn new(usually: &'a Usually) -> Self {
        Self {
            end: UsualEndJson::new(&usually.outcome),
            imprint: usually.effect.imprint.as_ref().map(ImprintJson::new),
            rests_on: usually.rests_on.iter().map(UsualJson::new).collect(),
        }
    }
}

impl UsualEndJson {
    pub(super) fn new(outcome: &Outcome) -> Self {
        Self { outcome: outcome.word(), errno: outcome.errno().map(|errno| errno.name()) }
    }
}

impl<'a> UsualJson<'a> {
    pub(super) fn new(usual: &'a Usual) -> Self {
        Self { rule: usual.rule.word(), says: &usual.says }
    }
}
