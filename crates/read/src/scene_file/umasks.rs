//! The umasks of containers that a description gives: no field of theirs says what their program sets.

use std::collections::BTreeMap;
use std::sync::Arc;

use mivask_core::fact::Fact;
use mivask_core::listed::listed;
use mivask_core::scene::{Container, Scene, Who, Workload};

use super::convert::Reading;
use crate::diagnostic::Severity;
use crate::nearest::nearest;
use crate::yaml::{Node, RawText};

impl Reading<'_> {
    /// Gives every container of that name the umask, `WORKLOAD/CONTAINER` the one that is meant.
    pub(super) fn umasks(&mut self, given: &BTreeMap<String, RawText>, scene: &mut Scene, node: &Node) {
        let Some(at) = node.get("umasks") else { return };
        for (name, text) in given {
            let item = at.get(name).unwrap_or(at);
            let Some(mode) = self.umask_at(text, item) else { continue };
            let fact = Fact::new(mode, self.source.place(&item.span, "umasks"));
            let mut found = false;
            for workload in &mut scene.workloads {
                let all = (0..workload.containers.len())
                    .filter(|index| means(name, workload, &workload.containers[*index]));
                let meant: Vec<usize> = all.collect();
                for index in meant {
                    found = true;
                    match &mut Arc::make_mut(workload).containers[index].who {
                        Who::Kubernetes(security) => security.umask = Some(fact.clone()),
                        Who::Plain(plain) => plain.umask = Some(fact.clone()),
                        Who::Process(process) => process.umask = Some(fact.clone()),
                        // A running process has the one it has.
                        Who::Running(_) => {}
                    }
                }
            }
            if !found {
                self.nobody(name, scene, item);
            }
        }
    }

    fn nobody(&mut self, name: &str, scene: &Scene, item: &Node) {
        let containers = scene.workloads.iter().flat_map(|workload| &workload.containers);
        let known: Vec<&str> = containers.map(|container| container.name.as_str()).collect();
        let help = match nearest(name, known.iter().copied()) {
            Some(near) => format!("did you mean `{near}`?"),
            None => format!("there is {}", listed(&known)),
        };
        let message = format!("there is no container `{}`", name.escape_debug());
        self.diagnostics.add(Severity::Error, self.source, &item.span, message, Some(help));
    }
}

fn means(name: &str, workload: &Workload, container: &Container) -> bool {
    let whole =
        name.split_once('/').is_some_and(|(left, right)| left == workload.name && right == container.name);
    name == container.name || whole
}
