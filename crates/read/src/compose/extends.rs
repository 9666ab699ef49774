//! `extends` within a file and from others: each service is merged once.

use mivask_core::listed::listed;
use std::collections::{HashMap, HashSet};
use std::path::Path;

use super::load::Loader;
use super::merge::merge;
use crate::yaml::{Node, Value};

/// Services that may extend one another in a row.
const MOST_IN_A_ROW: usize = 100;

/// The services of one file.
struct Services {
    pairs: Vec<(Node, Node)>,
    /// Where each is, by name.
    places: HashMap<String, usize>,
    /// Those that have what they extend.
    whole: HashSet<usize>,
}

impl Loader<'_> {
    /// Every service with what it extends underneath.
    pub(super) fn extended(&mut self, mut node: Node, folder: &Path) -> Option<Node> {
        let Value::Mapping(top) = &mut node.value else { return Some(node) };
        let given = top.iter_mut().find(|(key, _)| key.text() == Some("services"));
        let Some((_, Node { value: Value::Mapping(pairs), .. })) = given else { return Some(node) };
        let mut places = HashMap::with_capacity(pairs.len());
        for (at, (key, _)) in pairs.iter().enumerate() {
            places.entry(key.text().unwrap_or_default().to_owned()).or_insert(at);
        }
        let mut services = Services { pairs: std::mem::take(pairs), places, whole: HashSet::new() };
        for at in 0..services.pairs.len() {
            self.service(&mut services, at, folder)?;
        }
        *pairs = services.pairs;
        Some(node)
    }

    /// Makes the service at `at` whole, and those that it extends before it.
    fn service(&mut self, services: &mut Services, at: usize, folder: &Path) -> Option<()> {
        let mut row = vec![at];
        let mut lowest = None;
        // Down to the first that extends none of this file, or is whole already.
        while let Some(last) = row.last().copied().filter(|last| !services.whole.contains(last)) {
            let Some((key, extends)) = services.pairs[last].1.entry("extends") else { break };
            let (key, extends) = (key.span.clone(), extends.clone());
            let base = extends.text().or_else(|| extends.get("service").and_then(Node::text));
            let base = base.unwrap_or_default();
            if let Some(path) = extends.get("file").and_then(Node::text) {
                // Its own services were extended when it was read.
                let path = folder.join(path);
                let file = self.file(&path, path.parent().unwrap_or(Path::new("")), &extends.span)?;
                lowest = file.get("services").and_then(|all| all.get(base)).cloned();
                if lowest.is_none() {
                    self.error(&extends.span, format!("there is no service `{base}` to extend"));
                    return None;
                }
                break;
            }
            let Some(next) = services.places.get(base).copied() else {
                self.error(&extends.span, format!("there is no service `{base}` to extend"));
                return None;
            };
            if let Some(begins) = row.iter().position(|earlier| *earlier == next) {
                let names: Vec<&str> =
                    row[begins..].iter().filter_map(|at| services.pairs[*at].0.text()).collect();
                let around = match names.as_slice() {
                    [_] => String::new(),
                    names => format!(": {} extend one another", listed(names)),
                };
                self.error(&key, format!("service `{base}` extends itself{around}"));
                return None;
            }
            if row.len() > MOST_IN_A_ROW {
                self.error(&key, format!("more than {MOST_IN_A_ROW} services extend one another in a row"));
                return None;
            }
            row.push(next);
        }
        let mut lower = lowest;
        for at in row.into_iter().rev() {
            if let Some(lower) = lower.filter(|_| !services.whole.contains(&at)) {
                let upper = std::mem::replace(
                    &mut services.pairs[at].1,
                    Node::new(Value::Sequence(Vec::new()), 0..0),
                );
                services.pairs[at].1 = merge(without_extends(lower), without_extends(upper), "/services/x");
            }
            services.whole.insert(at);
            lower = Some(services.pairs[at].1.clone());
        }
        Some(())
    }
}

/// It is done, and the specification does not hand it on.
fn without_extends(mut service: Node) -> Node {
    if let Value::Mapping(pairs) = &mut service.value {
        pairs.retain(|(key, _)| key.text() != Some("extends"));
    }
    service
}
