//! How an act on each path of a pattern ends.

use std::collections::BTreeMap;

use mivask_model::act::{Act, Verb};
use mivask_model::glob::{Globs, PatternError};
use mivask_rules::settle::Outcome;
use mivask_stage::stage::{Actor, Stage};

use super::Paths;
use super::meet::{meant, met};
use crate::question::{Cell, ask_as};

/// Whether `verb` succeeds on each path that `pattern` matches, by path; `None` where a missing fact decides. Of a directory, reading
/// is listing it and writing is creating in it; what makes no sense for a path is left out.
pub(crate) fn endings(
    stage: &Stage,
    actor: &Actor,
    (verb, pattern): (&Verb, &[u8]),
    globs: &dyn Globs,
) -> Result<BTreeMap<Vec<u8>, Option<bool>>, PatternError> {
    let paths = Paths { pattern: pattern.to_vec(), except: Vec::new() };
    let mut all = BTreeMap::new();
    for (path, met) in met(stage, actor, Some(verb), &paths, globs)?.at {
        let known = met.ending.map(|ending| ending.cell);
        let ends = match known {
            Some(Cell::Void) => continue,
            Some(Cell::Allowed) => Some(true),
            Some(Cell::Denied(_)) => Some(false),
            Some(Cell::Open) | None => {
                let Some((verb, at)) = meant(stage, actor, verb, &path, met.kind) else { continue };
                let act = Act { actor: actor.name.to_string(), verb, path: at, expectation: None };
                match ask_as(stage, actor, &act).outcome {
                    Outcome::Allowed => Some(true),
                    Outcome::Denied(_) | Outcome::NeverRuns(_) => Some(false),
                    Outcome::Depends => None,
                }
            }
        };
        all.insert(path, ends);
    }
    Ok(all)
}
