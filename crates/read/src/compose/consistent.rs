//! What Compose refuses of a whole project (compose-go, `checkConsistency`).

use std::collections::{BTreeMap, BTreeSet};

use super::project::Reading;
use super::service::pairs;
use crate::diagnostic::Severity;
use crate::nearest::nearest;
use crate::yaml::{Node, Value};

/// Services whose names are compared with one that is not there.
const MOST_COMPARED: usize = 200;

impl Reading<'_> {
    /// Tells what no engine is asked about, since Compose refuses the file.
    pub(super) fn consistent(&mut self, services: &[(Node, Node)]) {
        let named: BTreeMap<&str, &Node> =
            services.iter().filter_map(|(key, node)| Some((key.text()?, node))).collect();
        for (name, node) in &named {
            let nothing = node.is_nothing() || !matches!(node.value, Value::Mapping(_));
            let image = node.get("image").is_some_and(|given| !given.is_nothing());
            let made = ["build", "provider"].into_iter().any(|key| node.get(key).is_some());
            if nothing || !image && !made {
                let message = format!("service `{}` has neither an image nor a build", name.escape_debug());
                self.diagnostic(
                    Severity::Error,
                    node,
                    &message,
                    Some("write `image:` or `build:`".to_owned()),
                );
            }
            self.depends(node, &named);
            self.networks(node);
            self.variable_files(node);
        }
        self.circle(&named);
    }

    fn depends(&mut self, node: &Node, named: &BTreeMap<&str, &Node>) {
        for (at, other) in needs(node) {
            if named.contains_key(other) {
                continue;
            }
            // Of thousands nobody reads which is meant.
            let few = named.len() <= MOST_COMPARED;
            let help = match nearest(other, named.keys().copied().filter(|_| few)) {
                Some(meant) => format!("did you mean `{meant}`?"),
                None => "name a service of the project".to_owned(),
            };
            let message = format!("there is no service `{}` to depend on", other.escape_debug());
            self.diagnostic(Severity::Error, at, &message, Some(help));
        }
    }

    fn networks(&mut self, node: &Node) {
        let Some(given) = node.get("networks") else { return };
        let declared = self.root.get("networks").map(pairs).unwrap_or_default();
        let asked: Vec<(&Node, &str)> = match &given.value {
            Value::Sequence(items) => items.iter().filter_map(|item| Some((item, item.text()?))).collect(),
            Value::Mapping(pairs) => pairs.iter().filter_map(|(key, _)| Some((key, key.text()?))).collect(),
            Value::Scalar { .. } => Vec::new(),
        };
        for (at, name) in asked {
            if name != "default" && !declared.iter().any(|(key, _)| key.text() == Some(name)) {
                let message = format!("network `{}` is not declared", name.escape_debug());
                let help = Some("declare it under the top-level `networks:`".to_owned());
                self.diagnostic(Severity::Error, at, &message, help);
            }
        }
    }

    /// A file of variables that is not there and is not said to be optional.
    fn variable_files(&mut self, node: &Node) {
        let Some(given) = node.get("env_file") else { return };
        let items = if given.is_list() { given.items() } else { std::slice::from_ref(given) };
        for item in items {
            let optional = item.get("required").and_then(Node::text) == Some("false");
            let Some(path) = item.text().or_else(|| item.get("path")?.text()) else { continue };
            let whole = self.folder.join(path);
            if !optional && self.files.look(&whole).is_err() {
                let message = format!("the file of variables {} is not there", path.escape_debug());
                let help =
                    Some("write `{ path: ..., required: false }` for one that may be missing".to_owned());
                self.diagnostic(Severity::Error, item, &message, help);
            }
        }
    }

    /// Services that depend on one another in a circle: whoever depends on none that are left is taken away, and what stays is a
    /// circle, or waits for one.
    fn circle(&mut self, named: &BTreeMap<&str, &Node>) {
        let mut waiting: BTreeMap<&str, usize> = BTreeMap::new();
        let mut behind: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
        for (name, node) in named {
            let others =
                needs(node).into_iter().map(|(_, other)| other).filter(|other| named.contains_key(other));
            let others: BTreeSet<&str> = others.collect();
            waiting.insert(name, others.len());
            others.into_iter().for_each(|other| behind.entry(other).or_default().push(name));
        }
        let mut free: Vec<&str> =
            waiting.iter().filter(|(_, count)| **count == 0).map(|(name, _)| *name).collect();
        while let Some(name) = free.pop() {
            waiting.remove(name);
            for next in behind.remove(name).unwrap_or_default() {
                if let Some(count) = waiting.get_mut(next) {
                    *count -= 1;
                    if *count == 0 {
                        free.push(next);
                    }
                }
            }
        }
        if let Some(first) = waiting.keys().next().copied() {
            let all: Vec<&str> = waiting.keys().copied().collect();
            let all = mivask_core::listed::listed(&all);
            let message = format!("services depend on one another in a circle: {}", all.escape_debug());
            self.diagnostic(Severity::Error, named[first], &message, None);
        }
    }
}

/// What a service depends on, each with its place.
fn needs(service: &Node) -> Vec<(&Node, &str)> {
    match service.get("depends_on").map(|list| &list.value) {
        Some(Value::Sequence(items)) => items.iter().filter_map(|item| Some((item, item.text()?))).collect(),
        Some(Value::Mapping(pairs)) => pairs
            .iter()
            .filter(|(_, how)| how.get("required").and_then(Node::text) != Some("false"))
            .filter_map(|(key, _)| Some((key, key.text()?)))
            .collect(),
        Some(Value::Scalar { .. }) | None => Vec::new(),
    }
}
