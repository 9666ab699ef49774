//! One Compose file on top of another (Compose specification, "Merge").

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
    let mut merged = lower;
    for (key, value) in upper {
        let at = merged.iter().position(|(known, _)| known.text() == key.text());
        let below = format!("{path}/{}", key.text().unwrap_or_default());
        match (at, value.mark) {
            (Some(at), Mark::Reset) => {
                merged.remove(at);
            }
            (None, Mark::Reset) => {}
            (Some(at), _) => {
                let lower =
                    std::mem::replace(&mut merged[at].1, Node::new(Value::Sequence(Vec::new()), 0..0));
                merged[at] = (key, merge(lower, value, &below));
            }
            (None, _) => merged.push((key, value)),
        }
    }
    Value::Mapping(merged)
}

/// Lists grow, but an entry with the same target replaces the earlier one.
fn sequences(lower: Vec<Node>, upper: Vec<Node>, path: &str) -> Value {
    let mut merged = lower;
    for item in upper {
        let same = |known: &Node| match identity(&item, path) {
            Some(target) => identity(known, path) == Some(target),
            None => known.text().is_some() && known.text() == item.text(),
        };
        merged.retain(|known| !same(known));
        merged.push(item);
    }
    Value::Sequence(merged)
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
