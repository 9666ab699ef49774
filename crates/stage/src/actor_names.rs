//! The names actors go by, known before any of them is put on a stage.

use std::collections::BTreeMap;
use std::sync::Arc;

use mivask_model::listed::listed;

/// Every actor of a scene, in the order of the description.
#[derive(Clone, Debug, Default)]
pub struct ActorNames {
    names: Vec<Arc<str>>,
    /// Workload and container of each.
    full: Vec<(Arc<str>, Arc<str>)>,
}

/// Why no single actor answers to a name.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ActorError {
    /// No one has that name.
    #[error("there is no actor `{name}` in this scene; there is {}", listed(known))]
    Unknown {
        /// The name that was asked for.
        name: String,
        /// Every actor's name.
        known: Vec<Arc<str>>,
    },
    /// Several workloads have a container of that name.
    #[error("`{name}` matches several actors: write one of {}", listed(which))]
    Ambiguous {
        /// The name that was asked for.
        name: String,
        /// The full names it may mean.
        which: Vec<String>,
    },
    /// It is a workload, and acts are its containers'.
    #[error("`{name}` is a workload: write its container, {}", listed(which))]
    Workload {
        /// The name that was asked for.
        name: String,
        /// The names of its containers.
        which: Vec<Arc<str>>,
    },
}

impl ActorNames {
    /// The containers of workloads, each with its workload's name: each goes by its own name, with the workload's where
    /// that is ambiguous.
    #[must_use]
    pub fn of<'a>(containers: impl Iterator<Item = (&'a Arc<str>, &'a str)>) -> Self {
        let full: Vec<(Arc<str>, Arc<str>)> =
            containers.map(|(workload, container)| (workload.clone(), Arc::from(container))).collect();
        let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
        for (_, container) in &full {
            *counts.entry(container).or_default() += 1;
        }
        let name = |(workload, container): &(Arc<str>, Arc<str>)| match counts.get(&**container) {
            Some(2..) => Arc::from(format!("{workload}/{container}")),
            Some(_) | None => container.clone(),
        };
        Self { names: full.iter().map(name).collect(), full }
    }

    /// Adds one who belongs to no workload.
    pub(crate) fn add(&mut self, name: &str) {
        self.names.push(name.into());
        self.full.push((name.into(), name.into()));
    }

    /// The names, in order.
    #[must_use]
    pub fn names(&self) -> &[Arc<str>] {
        &self.names
    }

    /// The number of the actor called `name`: a container, or `workload/container`.
    ///
    /// # Errors
    /// No one has that name, or several have.
    pub fn find(&self, name: &str) -> Result<usize, ActorError> {
        let called = |(workload, container): &(Arc<str>, Arc<str>)| {
            **container == *name
                || name
                    .split_once('/')
                    .is_some_and(|(left, right)| **workload == *left && **container == *right)
        };
        let found: Vec<usize> = (0..self.full.len()).filter(|at| called(&self.full[*at])).collect();
        match found.as_slice() {
            [] => Err(self.nobody(name)),
            [one] => Ok(*one),
            several => {
                let full = |at: &usize| format!("{}/{}", self.full[*at].0, self.full[*at].1);
                Err(ActorError::Ambiguous {
                    name: name.to_owned(),
                    which: several.iter().map(full).collect(),
                })
            }
        }
    }

    fn nobody(&self, name: &str) -> ActorError {
        let of_workload = self.full.iter().zip(&self.names).filter(|((workload, _), _)| **workload == *name);
        let which: Vec<Arc<str>> = of_workload.map(|(_, actor)| actor.clone()).collect();
        if which.is_empty() {
            return ActorError::Unknown { name: name.to_owned(), known: self.names.clone() };
        }
        ActorError::Workload { name: name.to_owned(), which }
    }
}
