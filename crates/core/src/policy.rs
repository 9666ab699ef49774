//! What a scene demands, beside the facts it tells.

use mivask_model::fact::Fact;

use crate::expect::Expected;
use crate::finding::{Accepted, Limit};

/// What is to hold, and what is open and meant so.
#[derive(Clone, Debug, Default)]
pub struct Policy {
    /// How wide paths may be at most.
    pub limits: Vec<Fact<Limit>>,
    /// What is open and meant so.
    pub accepted: Vec<Accepted>,
    /// What is to hold.
    pub expectations: Vec<Expected>,
}

impl Policy {
    /// The names of actors that it speaks of, patterns among them.
    pub fn actors(&self) -> impl Iterator<Item = &str> {
        let named = self.expectations.iter().filter_map(|expected| expected.claim.who());
        named.flat_map(|who| who.names.iter().chain(&who.except)).map(String::as_str)
    }
}
