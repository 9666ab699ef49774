//! Predictions beside the kernel.

use std::collections::BTreeMap;
use std::io::{self, Write};

use mivask_core::observed::Observed;
use mivask_core::question::{Comparison, Held};
use schemars::JsonSchema;
use serde::Serialize;

use super::answers::{ActJson, RunsAsJson};
use super::imprint::ImprintJson;
use super::{FORMAT, document};
use crate::RandomSummary;

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Held")]
pub(super) struct HeldJson<'a> {
    #[serde(flatten)]
    act: ActJson<'a>,
    kernel: KernelJson<'a>,
}

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Kernel")]
struct KernelJson<'a> {
    result: &'static str,
    outcome: Option<&'static str>,
    errno: Option<String>,
    imprint: Option<ImprintJson<'a>>,
    runs_as: Option<RunsAsJson>,
    reason: Option<&'a str>,
}

impl<'a> HeldJson<'a> {
    fn new(held: &'a Held) -> Self {
        let kernel = match &held.result {
            Comparison::Same(observed) => KernelJson::new("same", observed),
            Comparison::Different(observed) => KernelJson::new("different", observed),
            Comparison::NotChecked(reason) => KernelJson {
                result: "not-checked",
                outcome: None,
                errno: None,
                imprint: None,
                runs_as: None,
                reason: Some(reason),
            },
        };
        Self { act: ActJson::new(&held.answer), kernel }
    }
}

impl<'a> KernelJson<'a> {
    fn new(result: &'static str, observed: &'a Observed) -> Self {
        let (outcome, errno, effect) = match observed {
            Observed::Allowed(effect) => ("allowed", None, Some(effect)),
            Observed::Denied(errno) => ("denied", Some(errno.name().to_owned()), None),
            Observed::Other(number) => ("denied", Some(number.to_string()), None),
        };
        Self {
            result,
            outcome: Some(outcome),
            errno,
            imprint: effect.and_then(|effect| effect.imprint.as_ref()).map(ImprintJson::new),
            runs_as: effect.and_then(|effect| effect.runs_as).map(RunsAsJson::new),
            reason: None,
        }
    }
}

/// `confirm`: every act of `ask`, with `kernel` beside it.
///
/// # Errors
/// Whatever `out` refuses.
pub fn confirmed(out: &mut dyn Write, all: &[Held]) -> io::Result<()> {
    document(out, "acts", all.iter().map(HeldJson::new))
}

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Random")]
pub(super) struct RandomJson<'a> {
    mivask: u8,
    checked: usize,
    seed: u64,
    filesystems: BTreeMap<&'a str, usize>,
    outcomes: BTreeMap<&'a str, usize>,
    not_checked: BTreeMap<&'a str, usize>,
    difference: Option<HeldJson<'a>>,
    scene: Option<&'a str>,
}

/// `confirm --random`: the counts, and the act that differs.
///
/// # Errors
/// Whatever `out` refuses.
pub fn random_acts(out: &mut dyn Write, differing: &[Held], summary: &RandomSummary) -> io::Result<()> {
    let json = RandomJson {
        mivask: FORMAT,
        checked: summary.checked,
        seed: summary.seed,
        filesystems: by_name(&summary.filesystems),
        outcomes: by_name(&summary.outcomes),
        not_checked: by_name(&summary.not_checked),
        difference: differing.first().map(HeldJson::new),
        scene: summary.scene.as_deref(),
    };
    mivask_disk::json::pretty(out, &json)?;
    writeln!(out)
}

fn by_name(pairs: &[(String, usize)]) -> BTreeMap<&str, usize> {
    pairs.iter().map(|(name, count)| (name.as_str(), *count)).collect()
}
