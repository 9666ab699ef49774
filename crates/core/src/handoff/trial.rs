//! What one member makes, and what the others can do with it.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::act::{Act, Verb};
use mivask_model::mode::Mode;
use mivask_model::outcome::Imprint;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::settle::Outcome;
use mivask_rules::walk::Follow;
use mivask_stage::stage::Stage;

use super::{Consumer, Creation, PerUse, UseOutcome};
use crate::carry::{Carried, perform};
use crate::question::{Answer, Why, ask, why};

/// Everything is tried on one copy, each creator's files under names of their own.
pub(super) struct Trial<'a> {
    pub stage: &'a mut Stage,
    pub members: &'a [(usize, Vec<u8>)],
    pub assumptions: BTreeSet<Arc<str>>,
}

impl Trial<'_> {
    pub(super) fn creation(&mut self, creator: usize) -> Creation {
        let name = self.name(creator);
        let label = self.free(&format!("new-of-{name}"));
        let nested_label = self.free(&format!("dir-of-{name}"));
        let inner = [nested_label.as_slice(), b"/file"].concat();
        let (creates, file) = self.make(creator, &label, Verb::Creates(Mode::new(0o666)));
        let (made, directory) = self.make(creator, &nested_label, Verb::MakesDirectory(Mode::new(0o777)));
        let nested = if made.outcome == Outcome::Allowed {
            self.make(creator, &inner, Verb::Creates(Mode::new(0o666)))
        } else {
            (made, None)
        };
        let others: Vec<usize> = (0..self.members.len()).filter(|other| *other != creator).collect();
        let mut consumers = Vec::new();
        for consumer in others {
            let file = self.uses(consumer, &label, &creates);
            let nested = self.uses(consumer, &inner, &nested.0);
            consumers.push(Consumer { consumer: self.name(consumer), file, nested });
        }
        Creation { creator: name, creates, file, directory, nested: nested.1, usually: None, consumers }
    }

    fn name(&self, member: usize) -> String {
        self.stage.actors[self.members[member].0].name.to_string()
    }

    /// A name that nothing in the directory has.
    fn free(&self, wanted: &str) -> Vec<u8> {
        let plain = wanted.replace('/', "-");
        let taken = |name: &str| {
            self.members.iter().any(|(number, path)| {
                let path = [path.as_slice(), b"/", name.as_bytes()].concat();
                let table = &self.stage.actors[*number].mounts;
                matches!(look(&self.stage.storage, table, &path, Follow::AllButLast), Ok(Sight::There(_)))
            })
        };
        let numbered = (2..).map(|number| format!("{plain}-{number}"));
        let mut names = std::iter::once(plain.clone()).chain(numbered);
        names.find(|name| !taken(name)).unwrap_or(plain).into_bytes()
    }

    fn act(&self, member: usize, name: &[u8], verb: Verb) -> Act {
        let (number, directory) = &self.members[member];
        let path = [directory.as_slice(), b"/", name].concat();
        let actor = &self.stage.actors[*number];
        // The full name is never ambiguous, unless two workloads have one name.
        Act { actor: actor.name.to_string(), verb, path, expectation: None }
    }

    fn make(&mut self, member: usize, name: &[u8], verb: Verb) -> (UseOutcome, Option<Imprint>) {
        let act = self.act(member, name, verb);
        let Ok(performed) = perform(self.stage, &act) else {
            return (ambiguous(), None);
        };
        self.assumptions.extend(performed.answer.assumptions.iter().cloned());
        let mut done = done(&performed.answer);
        if let Carried::Open(reason) = performed.carried
            && done.outcome == Outcome::Allowed
        {
            done = UseOutcome { outcome: Outcome::Depends, why: Some(Why::new(&reason)), usually: None };
        }
        (done, performed.answer.effect.imprint)
    }

    /// What `consumer` can do with what the creator made under `name`.
    fn uses(&mut self, consumer: usize, name: &[u8], made: &UseOutcome) -> Option<PerUse> {
        if made.outcome != Outcome::Allowed {
            return None;
        }
        Some(PerUse {
            read: self.ask(consumer, name, Verb::Reads),
            change: self.ask(consumer, name, Verb::Writes),
            delete: self.ask(consumer, name, Verb::Deletes),
            replace: self.replace(consumer, name),
        })
    }

    fn ask(&mut self, member: usize, name: &[u8], verb: Verb) -> UseOutcome {
        let act = self.act(member, name, verb);
        match ask(self.stage, &act) {
            Ok(answer) => {
                self.assumptions.extend(answer.assumptions.iter().cloned());
                done(&answer)
            }
            Err(_) => ambiguous(),
        }
    }

    fn replace(&mut self, member: usize, name: &[u8]) -> UseOutcome {
        let own = [name, b".by-", self.name(member).replace('/', "-").as_bytes()].concat();
        let (made, _) = self.make(member, &own, Verb::Creates(Mode::new(0o666)));
        if made.outcome != Outcome::Allowed {
            return made;
        }
        let new = self.act(member, name, Verb::Reads).path;
        self.ask(member, &own, Verb::Renames(new))
    }
}

/// Two workloads of one name: no one can be asked.
fn ambiguous() -> UseOutcome {
    UseOutcome { outcome: Outcome::Depends, why: Some(Why::new("its name is not its own")), usually: None }
}

fn done(answer: &Answer) -> UseOutcome {
    UseOutcome { outcome: answer.outcome.clone(), why: why(answer), usually: None }
}
