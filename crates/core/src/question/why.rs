//! Why an act is not simply allowed, in one sentence.

use std::fmt;

use mivask_rules::settle::Outcome;

use super::ask::Answer;

/// Why an act is not simply allowed.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Why {
    /// Where, where it is about a path.
    pub path: Option<Vec<u8>>,
    /// The fact that decides.
    pub fact: String,
}

impl fmt::Display for Why {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.path {
            Some(path) => write!(f, "{}: {}", mivask_model::act::quoted(path), self.fact),
            None => f.write_str(&self.fact),
        }
    }
}

impl Why {
    /// About no path.
    pub(crate) fn new(fact: &str) -> Self {
        Self { path: None, fact: fact.to_owned() }
    }
}

/// Why an act is not simply allowed.
#[must_use]
pub fn why(answer: &Answer) -> Option<Why> {
    match &answer.outcome {
        Outcome::Allowed => None,
        Outcome::NeverRuns(refusal) => Some(Why::new(&format!("{}: {}", refusal.class, refusal.reason))),
        Outcome::Depends => {
            answer.depends_on.first().map(|one| Why::new(&format!("depends on {}", one.fact)))
        }
        Outcome::Denied(_) => {
            let step =
                answer.deciding().map(|step| Why { path: Some(step.path.clone()), fact: step.fact.clone() });
            step.or_else(|| answer.outcome.errno().map(|errno| Why::new(errno.meaning())))
        }
    }
}
