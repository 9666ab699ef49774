//! What differs between two texts of Kubernetes objects, as a strategic merge patch: a file beside manifests that one does not edit.
//!
//! Mappings are merged key by key, `null` takes a key away; lists of named things are merged by their names, and other lists are
//! replaced as a whole (API conventions, `x-kubernetes-patch-merge-key` of the core types).

use crate::diagnostic::Diagnostics;
use crate::text::SourceText;
use crate::yaml::{Node, Value, parse};

/// Why there is no patch.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum MergeError {
    /// Nothing that has kind and name differs.
    #[error("only Kubernetes objects with a name take a merge patch: the description itself has to change")]
    NoObject,
}

/// The key by which the elements of a list are told apart.
fn merge_key(list: &str) -> Option<&'static str> {
    Some(match list {
        "containers" | "initContainers" | "ephemeralContainers" | "volumes" | "env" => "name",
        "volumeMounts" => "mountPath",
        "volumeDevices" => "devicePath",
        "ports" => "containerPort",
        "hostAliases" => "ip",
        "topologySpreadConstraints" => "topologyKey",
        "imagePullSecrets" => "name",
        _ => return None,
    })
}

/// The patch that makes `new` of `old`, one document for each object that differs.
///
/// # Errors
/// What differs is no named object.
pub fn merge_patch(old: &str, new: &str) -> Result<String, MergeError> {
    let read = |text: &str| objects(parse(&SourceText::new("", text), &mut Diagnostics::default()));
    let (old, new) = (read(old), read(new));
    let mut documents = Vec::new();
    for (old, new) in old.iter().zip(&new) {
        let Some(Value::Mapping(changed)) = difference(old, new, "").map(|node| node.value) else { continue };
        let named = |path: &str| new.find(path).filter(|node| node.text().is_some()).cloned();
        let (Some(version), Some(kind), Some(name)) =
            (named("apiVersion"), named("kind"), named("metadata.name"))
        else {
            return Err(MergeError::NoObject);
        };
        let space = named("metadata.namespace").map(|space| (key("namespace"), space));
        let metadata = std::iter::once((key("name"), name)).chain(space).collect();
        let head = [
            (key("apiVersion"), version),
            (key("kind"), kind),
            (key("metadata"), Node::new(Value::Mapping(metadata), 0..0)),
        ];
        let pairs = head.into_iter().chain(changed).collect();
        let mut text = String::new();
        print(&Node::new(Value::Mapping(pairs), 0..0), 0, &mut text);
        documents.push(text);
    }
    if documents.is_empty() { Err(MergeError::NoObject) } else { Ok(documents.join("---\n")) }
}

/// The objects of a file; those of a list stand for it.
fn objects(documents: Vec<Node>) -> Vec<Node> {
    let of = |document: Node| {
        let list = document.get("kind").and_then(Node::text).is_some_and(|kind| kind.ends_with("List"));
        let items =
            document.get("items").filter(|items| list && items.is_list()).map(|items| items.items().to_vec());
        items.unwrap_or_else(|| vec![document])
    };
    documents.into_iter().flat_map(of).collect()
}

fn key(text: &str) -> Node {
    Node::new(Value::Scalar { text: text.to_owned(), plain: true }, 0..0)
}

/// What makes `new` of `old`, the value of `name`; `None` where they are the same.
fn difference(old: &Node, new: &Node, name: &str) -> Option<Node> {
    match (&old.value, &new.value) {
        (Value::Mapping(before), Value::Mapping(after)) => {
            let mut pairs = Vec::new();
            for (given, value) in after {
                let was = given.text().and_then(|text| old.get(text));
                let changed = match was {
                    Some(was) => difference(was, value, given.text().unwrap_or_default()),
                    None => Some(value.clone()),
                };
                pairs.extend(changed.map(|changed| (given.clone(), changed)));
            }
            let gone =
                before.iter().filter(|(given, _)| given.text().is_some_and(|text| new.get(text).is_none()));
            pairs.extend(gone.map(|(given, _)| (given.clone(), key("null"))));
            (!pairs.is_empty()).then(|| Node::new(Value::Mapping(pairs), 0..0))
        }
        (Value::Sequence(before), Value::Sequence(after)) => match merge_key(name) {
            Some(by) => elements(before, after, by),
            None if same(old, new) => None,
            None => Some(new.clone()),
        },
        _ if same(old, new) => None,
        _ => Some(new.clone()),
    }
}

/// The elements that differ, each with the key `by` that names it.
fn elements(before: &[Node], after: &[Node], by: &str) -> Option<Node> {
    let named = |list: &[Node], element: &Node| -> Option<Node> {
        let name = element.get(by)?.text()?;
        list.iter().find(|other| other.get(by).and_then(Node::text) == Some(name)).cloned()
    };
    let mut changed = Vec::new();
    for element in after {
        let Some(was) = named(before, element) else {
            changed.push(element.clone());
            continue;
        };
        let Some(Value::Mapping(mut pairs)) = difference(&was, element, "").map(|node| node.value) else {
            continue;
        };
        pairs.splice(0..0, element.get(by).map(|name| (key(by), name.clone())));
        changed.push(Node::new(Value::Mapping(pairs), 0..0));
    }
    for element in before.iter().filter(|element| named(after, element).is_none()) {
        let name = element.get(by).map(|name| (key(by), name.clone()));
        let pairs = name.into_iter().chain([(key("$patch"), key("delete"))]).collect();
        changed.push(Node::new(Value::Mapping(pairs), 0..0));
    }
    (!changed.is_empty()).then(|| Node::new(Value::Sequence(changed), 0..0))
}

/// Whether two values are the same, wherever they stand.
fn same(one: &Node, other: &Node) -> bool {
    match (&one.value, &other.value) {
        (Value::Mapping(one), Value::Mapping(other)) => {
            one.len() == other.len()
                && one.iter().zip(other).all(|((a, x), (b, y))| a.text() == b.text() && same(x, y))
        }
        (Value::Sequence(one), Value::Sequence(other)) => {
            one.len() == other.len() && one.iter().zip(other).all(|(one, other)| same(one, other))
        }
        (one, other) => one == other,
    }
}

/// Writes `node` in block form, `depth` levels deep, on lines of its own.
fn print(node: &Node, depth: usize, out: &mut String) {
    let margin = "  ".repeat(depth);
    match &node.value {
        Value::Scalar { .. } => out.push_str(&format!("{margin}{}\n", scalar(node))),
        Value::Sequence(items) => {
            for item in items {
                let mut text = String::new();
                print(item, depth + 1, &mut text);
                out.push_str(&format!("{margin}- {}", text.trim_start()));
            }
        }
        Value::Mapping(pairs) => {
            for (key, value) in pairs {
                let key = scalar(key);
                match &value.value {
                    Value::Scalar { .. } => out.push_str(&format!("{margin}{key}: {}\n", scalar(value))),
                    Value::Sequence(items) if items.is_empty() => {
                        out.push_str(&format!("{margin}{key}: []\n"))
                    }
                    Value::Mapping(pairs) if pairs.is_empty() => {
                        out.push_str(&format!("{margin}{key}: {{}}\n"))
                    }
                    Value::Sequence(_) => {
                        out.push_str(&format!("{margin}{key}:\n"));
                        print(value, depth, out);
                    }
                    Value::Mapping(_) => {
                        out.push_str(&format!("{margin}{key}:\n"));
                        print(value, depth + 1, out);
                    }
                }
            }
        }
    }
}

/// A scalar as it was written, or in quotes that hold any text.
fn scalar(node: &Node) -> String {
    match &node.value {
        Value::Scalar { text, plain: true } if !text.contains('\n') => text.clone(),
        Value::Scalar { text, .. } => serde_json::Value::from(text.as_str()).to_string(),
        // No key is anything else.
        Value::Sequence(_) | Value::Mapping(_) => String::new(),
    }
}
