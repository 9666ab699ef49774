//! What creators usually leave and others can usually do with it, where that depends on missing facts.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::usual::{Usual, UsualRule};
use mivask_rules::settle::Outcome;
use mivask_stage::stage::Stage;

use super::{Creation, Handoff, PerUse, UseOutcome, UsualCreation, declared, handoffs};
use crate::question::Why;

/// `told` with what is usual; `stage` is that of the same scene with missing facts as usual.
#[must_use]
pub fn with_usual(mut told: Vec<Handoff>, stage: &Stage, paths: &[Vec<u8>]) -> Vec<Handoff> {
    if stage.usual.is_empty() {
        return told;
    }
    for usual in handoffs(stage, paths) {
        let same = |one: &&mut Handoff| {
            (&one.source, &one.directory, &one.members) == (&usual.source, &usual.directory, &usual.members)
        };
        let Some(one) = told.iter_mut().find(same) else {
            told.push(only_usual(stage, &usual));
            continue;
        };
        if one.is_open() {
            add(one, &usual);
            if one.creations.iter().any(is_usual) {
                one.rests_on = rests_on(stage, &usual);
            }
        }
    }
    told
}

/// Whether something of `told`, on `stage`, may be usual: it depends, or nobody knows what a mount shows.
#[must_use]
pub fn may_be_usual(stage: &Stage, told: &[Handoff]) -> bool {
    told.iter().any(Handoff::is_open)
        || stage.actors.iter().flat_map(declared).any(|(_, mount)| mount.root.is_none())
}

/// A directory that is only usually shared: a part of a new claim, of which nobody knows whether it is there.
fn only_usual(stage: &Stage, usual: &Handoff) -> Handoff {
    let open = || UseOutcome {
        outcome: Outcome::Depends,
        why: Some(Why::new(&format!("depends on what {} holds", usual.source))),
        usually: None,
    };
    let mut told = usual.clone();
    for one in &mut told.creations {
        (one.creates, one.file, one.directory, one.nested) = (open(), None, None, None);
        one.consumers.iter_mut().for_each(|consumer| (consumer.file, consumer.nested) = (None, None));
    }
    add(&mut told, usual);
    Handoff { rests_on: rests_on(stage, usual), ..told }
}

fn ends(creation: &Creation) -> impl Iterator<Item = &UseOutcome> {
    let consumers = creation.consumers.iter().flat_map(|one| one.file.iter().chain(&one.nested));
    std::iter::once(&creation.creates).chain(consumers.flat_map(|uses| uses.iter().map(|(_, ended)| ended)))
}

impl Handoff {
    /// Whether something in it depends on missing facts.
    #[must_use]
    pub fn is_open(&self) -> bool {
        self.creations.iter().flat_map(ends).any(|ended| ended.outcome == Outcome::Depends)
    }
}

fn is_usual(creation: &Creation) -> bool {
    ends(creation).any(|ended| ended.usually.is_some())
}

/// The usual facts that it rests on: of the volume, whether the filesystem group reaches it; of all, what was assumed. That
/// what is above a mount point lets pass is assumed of any image.
fn rests_on(stage: &Stage, handoff: &Handoff) -> BTreeSet<Usual> {
    let taken = stage.usual.iter().flat_map(|(source, all)| all.iter().map(move |usual| (source, usual)));
    let is_met = |source: &Arc<str>, usual: &Usual| match usual.rule {
        UsualRule::GroupApplied => *source == handoff.source,
        UsualRule::ImageDirectory => false,
        UsualRule::NewClaim | UsualRule::NewName | UsualRule::MountIsDirectory | UsualRule::Starts => {
            handoff.assumptions.contains(&usual.assumption())
        }
    };
    taken.filter(|(source, usual)| is_met(source, usual)).map(|(_, usual)| usual.clone()).collect()
}

fn add(told: &mut Handoff, usual: &Handoff) {
    for (one, other) in told.creations.iter_mut().zip(&usual.creations) {
        let open = one.creates.outcome == Outcome::Depends;
        one.creates.take_usual(&other.creates);
        if open && other.creates.outcome == Outcome::Allowed {
            let (file, directory, nested) =
                (other.file.clone(), other.directory.clone(), other.nested.clone());
            one.usually = Some(UsualCreation { file, directory, nested });
        }
        let creates = one.creates.clone();
        for (consumer, other) in one.consumers.iter_mut().zip(&other.consumers) {
            take_uses(&mut consumer.file, other.file.as_ref(), &creates);
            take_uses(&mut consumer.nested, other.nested.as_ref(), &creates);
        }
    }
}

/// What can be done with a file of which it depends whether it can be made (`creates`) depends on the same.
fn take_uses(told: &mut Option<PerUse>, usual: Option<&PerUse>, creates: &UseOutcome) {
    let Some(usual) = usual else { return };
    if told.is_none() && creates.outcome == Outcome::Depends {
        let open = || UseOutcome { outcome: Outcome::Depends, why: creates.why.clone(), usually: None };
        *told = Some(PerUse { read: open(), change: open(), delete: open(), replace: open() });
    }
    let Some(told) = told else { return };
    told.read.take_usual(&usual.read);
    told.change.take_usual(&usual.change);
    told.delete.take_usual(&usual.delete);
    told.replace.take_usual(&usual.replace);
}

impl UseOutcome {
    fn take_usual(&mut self, usual: &Self) {
        let certain = matches!(usual.outcome, Outcome::Allowed | Outcome::Denied(_));
        if self.outcome == Outcome::Depends && certain {
            self.usually = Some(Box::new(usual.clone()));
        }
    }

    /// How it ends, certainly or usually.
    #[must_use]
    pub fn certain_or_usual(&self) -> &Self {
        self.usually.as_deref().unwrap_or(self)
    }
}
