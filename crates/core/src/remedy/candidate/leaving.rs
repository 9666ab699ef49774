//! An act that is allowed and leaves something else than is expected.

use mivask_model::act::{Act, Expectation, Verb};
use mivask_model::held::Held;
use mivask_model::mode::{Mode, ModeChange};
use mivask_model::path::parent;
use mivask_stage::stage::{Actor, Stage};

use super::{Candidate, Met, process};
use crate::change::Process;
use crate::question::Answer;

/// A umask, a set-group-id bit, a filesystem group.
pub(super) fn candidates(stage: &Stage, actor: &Actor, act: &Act, answer: &Answer) -> Vec<Candidate> {
    let Some(Expectation::Leaves { uid, gid, mode }) = act.expectation else { return Vec::new() };
    let Some(left) = &answer.effect.imprint else { return Vec::new() };
    let name = act.actor.as_str();
    let mut all = Vec::new();
    let (Some(left_mode), Some(who)) = (left.mode, actor.credentials.first()) else { return all };
    let asked = act.verb.mode().unwrap_or(Mode::new(0o666)).masked(Mode::new(0o777));
    if let Some(mode) = mode.filter(|mode| left_mode != *mode)
        && asked.has(mode.masked(Mode::new(0o777)))
    {
        all.push(process(name, Process::Umask(asked.without(mode).masked(Mode::new(0o777)))));
    }
    if let Some(gid) = gid
        && left.gid.is_some_and(|left| left.raw() != gid)
    {
        let directory = parent(&act.path);
        if let Some(met) = Met::at(stage, actor, name, directory) {
            let mut verbs = Vec::new();
            if met.gid != Some(gid) {
                verbs.push(Verb::SetsGroup(gid));
            }
            verbs.extend("g+s".parse::<ModeChange>().ok().map(Verb::SetsMode));
            all.push(met.file(verbs));
        }
        let own = who.inside_uid().and_then(Held::id);
        all.extend(own.map(|own| process(name, Process::Becomes(own.raw(), Some(gid)))));
    }
    if let Some(uid) = uid
        && left.uid.is_some_and(|left| left.raw() != uid)
    {
        all.push(process(name, Process::Becomes(uid, None)));
    }
    all
}
