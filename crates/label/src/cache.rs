//! Decisions that were made before (kernel: `avc.c`, the access vector cache).

use rustc_hash::FxHashMap;

use crate::{ClassId, Context, Decision, Policy};

/// Remembers the decisions of one policy in one state of its booleans.
///
/// Contexts get small numbers first, so that asking again costs a look into a table.
#[derive(Debug)]
pub struct Cache<'p> {
    policy: &'p Policy,
    numbers: FxHashMap<Context, u32>,
    contexts: Vec<Context>,
    decisions: FxHashMap<(u32, u32, ClassId), Decision>,
}

impl<'p> Cache<'p> {
    /// Nothing remembered yet.
    #[must_use]
    pub fn new(policy: &'p Policy) -> Self {
        Self { policy, numbers: FxHashMap::default(), contexts: Vec::new(), decisions: FxHashMap::default() }
    }

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

    /// What the context of number `source` may do to that of number `target`; both are from [`Cache::number`].
    pub fn decide(&mut self, source: u32, target: u32, class: ClassId) -> Decision {
        let context = |number: u32| &self.contexts[usize::try_from(number).unwrap_or(usize::MAX)];
        let policy = self.policy;
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
