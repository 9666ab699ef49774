//! One Compose file on top of another (Compose specification, "Merge").

use std::collections::HashMap;

use crate::yaml::{Mark, Node, Value};

/// `upper` merged onto `lower`; `path` is where both stand, for rules of their own.
pub(super) fn merge(lower: Node, upper: Node, path: &str) -> Node {
    if upper.mark == Mark::Override || lower.is_nothing() {
        return upper;
    }
    let span = upper.span.clone();
    match (lower.value, upper.value) {
        (Value::Mapping(lower), Value::Mapping(upper)) => Node::new(mappings(lower, upper, path), span),
        (Value::Sequence(_), upper @ Value::Sequence(_)) if replaces(path) => Node::new(upper, span),
        (Value::Sequence(lower), Value::Sequence(upper)) => Node::new(sequences(lower, upper, path), span),
        (_, upper) => Node { value: upper, span, mark: Mark::None },
    }
}

fn mappings(lower: Vec<(Node, Node)>, upper: Vec<(Node, Node)>, path: &str) -> Value {
    let mut places: HashMap<Option<String>, usize> = HashMap::with_capacity(lower.len());
    for (at, (key, _)) in lower.iter().enumerate() {
        places.entry(name(key)).or_insert(at);
    }
    let mut merged: Vec<Option<(Node, Node)>> = lower.into_iter().map(Some).collect();
    for (key, value) in upper {
        let known = places.get(&name(&key)).copied();
        let there = known.and_then(|at| Some((at, merged[at].take()?)));
        if value.mark == Mark::Reset {
            continue;
        }
        match there {
            Some((at, (_, lower))) => {
                let below = format!("{path}/{}", key.text().unwrap_or_default());
                merged[at] = Some((key, merge(lower, value, &below)));
            }
            None => {
                places.insert(name(&key), merged.len());
                merged.push(Some((key, value)));
            }
        }
    }
    Value::Mapping(merged.into_iter().flatten().collect())
}

fn name(key: &Node) -> Option<String> {
    key.text().map(str::to_owned)
}

/// Lists grow, but an entry with the same target replaces the earlier one.
fn sequences(lower: Vec<Node>, upper: Vec<Node>, path: &str) -> Value {
    let same = |item: &Node| identity(item, path).or_else(|| name(item));
    let mut places: HashMap<String, Vec<usize>> = HashMap::new();
    let mut merged: Vec<Option<Node>> = Vec::with_capacity(lower.len() + upper.len());
    let below = lower.len();
    for (at, item) in lower.into_iter().chain(upper).enumerate() {
        if let Some(same) = same(&item) {
            let earlier = places.entry(same).or_default();
            if at >= below {
                earlier.drain(..).for_each(|earlier| merged[earlier] = None);
            }
            earlier.push(at);
        }
        merged.push(Some(item));
    }
    Value::Sequence(merged.into_iter().flatten().collect())
}

/// Lists that are commands: the later one counts whole.
fn replaces(path: &str) -> bool {
    ["/command", "/entrypoint", "/healthcheck/test"].iter().any(|end| path.ends_with(end))
}

/// What makes an element of a list unique: where a volume, secret or config shows.
fn identity(item: &Node, path: &str) -> Option<String> {
    let list = path.rsplit('/').next()?;
    match (list, item.text()) {
        ("volumes", Some(short)) => Some(super::volumes::target_of(short).to_owned()),
        ("secrets" | "configs", Some(short)) => Some(short.to_owned()),
        ("volumes" | "secrets" | "configs", None) => {
            let key = item.get("target").or_else(|| item.get("source"));
            key.and_then(Node::text).map(str::to_owned)
        }
        _ => None,
    }
}

/// Drops what a single file resets, and forgets the tags.
pub(super) fn settle(node: &mut Node) {
    node.mark = Mark::None;
    match &mut node.value {
        Value::Mapping(pairs) => {
            pairs.retain(|(_, value)| value.mark != Mark::Reset);
            pairs.iter_mut().for_each(|(_, value)| settle(value));
        }
        Value::Sequence(items) => {
            items.retain(|item| item.mark != Mark::Reset);
            items.iter_mut().for_each(settle);
        }
        Value::Scalar { .. } => {}
    }
}
