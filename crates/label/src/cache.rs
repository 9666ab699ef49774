//! Decisions that were made before (kernel: `avc.c`, the access vector cache).

use rustc_hash::FxHashMap;

use crate::{ClassId, Context, Decision, Policy};

/// Remembers the decisions of one policy in one state of its booleans: it is always asked with the same.
///
/// Contexts get small numbers first, so that asking again costs a look into a table.
#[derive(Debug, Default)]
pub struct Cache {
    numbers: FxHashMap<Context, u32>,
    contexts: Vec<Context>,
    decisions: FxHashMap<(u32, u32, ClassId), Decision>,
}

impl Cache {
    /// The number by which this cache knows a context.
    pub fn number(&mut self, context: &Context) -> u32 {
        if let Some(number) = self.numbers.get(context) {
            return *number;
        }
        let number = u32::try_from(self.contexts.len()).unwrap_or(u32::MAX);
        self.contexts.push(context.clone());
        self.numbers.insert(context.clone(), number);
        number
    }

    /// What the context of number `source` may do to that of number `target` by `policy`; both are from [`Cache::number`].
    pub fn decide(&mut self, policy: &Policy, source: u32, target: u32, class: ClassId) -> Decision {
        let context = |number: u32| &self.contexts[usize::try_from(number).unwrap_or(usize::MAX)];
        match self.decisions.get(&(source, target, class)) {
            Some(decision) => *decision,
            None => {
                let decision = policy.decide(context(source), context(target), class);
                self.decisions.insert((source, target, class), decision);
                decision
            }
        }
    }
}
