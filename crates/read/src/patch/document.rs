//! A YAML text that is edited where it is.

use std::cell::RefCell;
use std::str::FromStr;

use yaml_edit::path::YamlPath;
use yaml_edit::{AsYaml, Mapping, ScalarValue, Sequence, YamlFile, YamlValue};

use super::PatchError;
use crate::diagnostic::Diagnostics;
use crate::text::SourceText;
use crate::yaml::{Node, Value, parse};

/// A step from a value to one within it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) enum Part {
    /// A value of a mapping.
    Key(String),
    /// An element of a list.
    Item(usize),
}

/// One document of a file, with the way to the container that is meant.
pub(super) struct Document {
    file: YamlFile,
    document: yaml_edit::Document,
    nodes: Vec<Node>,
    number: usize,
    container: Vec<Part>,
    touched: RefCell<Vec<Vec<Part>>>,
    gone: RefCell<Vec<Vec<Part>>>,
}

impl Document {
    /// The document of `text` that holds the container at `place`: line and column of its mapping, or of its name.
    pub(super) fn open(text: &str, place: (usize, usize)) -> Result<Self, PatchError> {
        let source = SourceText::new("", text);
        let mut diagnostics = Diagnostics::default();
        let nodes = parse(&source, &mut diagnostics);
        let found = nodes.iter().enumerate().find_map(|(number, node)| {
            let mut way = Vec::new();
            find(node, &source, place, &mut way).then_some((number, way))
        });
        let (number, mut container) = found.ok_or(PatchError::Lost)?;
        if container.last() == Some(&Part::Key("name".to_owned())) {
            container.pop();
        }
        let file = YamlFile::from_str(text).map_err(|_| PatchError::Lost)?;
        // Empty documents are none to the reader.
        let mut documents = file.documents().filter(|document| !document.is_empty());
        let document = documents.nth(number).ok_or(PatchError::Lost)?;
        let (touched, gone) = (RefCell::default(), RefCell::default());
        Ok(Self { file, document, nodes, number, container, touched, gone })
    }

    /// The text as it is now: every value that was not touched is read from it as before, and what was touched is there.
    ///
    /// # Errors
    /// The layout of the file led the editor astray.
    pub(super) fn text(self) -> Result<String, PatchError> {
        let Self { file, document, nodes: before, number: own, touched, gone, .. } = self;
        let text = file.to_string();
        // Of a file with a whole cluster each form is large: what the editor holds is free before the text is read again.
        drop((file, document));
        let mut diagnostics = Diagnostics::default();
        let nodes = parse(&SourceText::new("", &text), &mut diagnostics);
        let mut touched = touched.into_inner();
        let there = touched.iter().all(|way| nodes.get(own).is_some_and(|node| at(node, way).is_some()));
        let gone = gone.into_inner();
        let there =
            there && gone.iter().all(|way| nodes.get(own).is_some_and(|node| at(node, way).is_none()));
        touched.extend(gone);
        let alike = nodes.len() == before.len()
            && nodes.iter().zip(&before).enumerate().all(|(number, (new, old))| {
                let touched: &[Vec<Part>] = if number == own { &touched } else { &[] };
                same_but(old, new, &mut Vec::new(), touched)
            });
        if alike && there { Ok(text) } else { Err(PatchError::Layout) }
    }

    /// The way to the container.
    pub(super) fn container(&self) -> &[Part] {
        &self.container
    }

    /// The value at the end of a way, as it was read.
    pub(super) fn read(&self, way: &[Part]) -> Option<&Node> {
        at(&self.nodes[self.number], way)
    }

    /// Sets the value at the end of a way; mappings on the way are made where they are missing.
    pub(super) fn set(&self, way: &[Part], value: impl AsYaml) -> Result<(), PatchError> {
        let path = path_text(way).ok_or(PatchError::Lost)?;
        self.touched.borrow_mut().push(way.to_vec());
        self.document.try_set_path(&path, value).map_err(|_| PatchError::Lost)
    }

    /// Takes the key at the end of a way out of its mapping, where it is there.
    pub(super) fn remove(&self, way: &[Part]) -> Result<(), PatchError> {
        let (Some((Part::Key(key), above)), Some(_)) = (way.split_last(), self.read(way)) else {
            return Ok(());
        };
        let mapping =
            path_text(above).and_then(|path| self.document.try_get_path(&path).ok()?.as_mapping().cloned());
        mapping.and_then(|mapping| mapping.remove(key.as_str())).ok_or(PatchError::Lost)?;
        self.gone.borrow_mut().push(way.to_vec());
        Ok(())
    }

    /// Adds `value` to the list at the end of a way, which is made where it is missing.
    pub(super) fn append(&self, way: &[Part], value: YamlValue) -> Result<(), PatchError> {
        // A single value may stand where a list of one could.
        if let Some(alone) = self.read(way).and_then(Node::text) {
            return self.set(way, vec![YamlValue::from(alone), value]);
        }
        self.push(way, value.clone(), || vec![value])
    }

    /// The same for a mapping.
    pub(super) fn append_mapping(&self, way: &[Part], value: Mapping) -> Result<(), PatchError> {
        self.push(way, value.clone(), || {
            let list = Sequence::new();
            list.push(value);
            list
        })
    }

    /// Adds capabilities to the list at the end of one way, and takes them from that at the end of the other, since a name
    /// is added or dropped, not both; dropping `ALL` leaves nothing to add.
    pub(super) fn capabilities(
        &self,
        names: &[String],
        (to, other): (&[Part], &[Part]),
        dropping: bool,
    ) -> Result<(), PatchError> {
        let bare = |name: &str| {
            let bare = name
                .get(..4)
                .filter(|prefix| prefix.eq_ignore_ascii_case("CAP_"))
                .map_or(name, |_| &name[4..]);
            bare.to_ascii_uppercase()
        };
        let given: Vec<&str> =
            self.read(other).map(Node::items).unwrap_or_default().iter().filter_map(Node::text).collect();
        let everything = dropping && names.iter().any(|name| bare(name) == "ALL");
        let meant = |given: &str| everything || names.iter().any(|name| bare(name) == bare(given));
        let kept: Vec<YamlValue> =
            given.iter().filter(|name| !meant(name)).map(|name| YamlValue::from(*name)).collect();
        if kept.len() < given.len() {
            self.set(other, kept)?;
        }
        names.iter().try_for_each(|name| self.append(to, name.as_str().into()))
    }

    /// The way to the mount among those listed at `mounts` whose path, told at `key`, is `at`.
    pub(super) fn mount_at(&self, mounts: &[Part], key: &str, at: &[u8]) -> Option<Vec<Part>> {
        let at = at.strip_suffix(b"/").unwrap_or(at);
        let same = |mount: &Node| {
            mount
                .get(key)
                .and_then(Node::text)
                .is_some_and(|given| given.trim_end_matches('/').as_bytes() == at)
        };
        let index = self.read(mounts)?.items().iter().position(same)?;
        Some(item(mounts, index))
    }

    /// The way to the innermost mount above `part`, and what is left of the path below it.
    pub(super) fn mount_above(&self, mounts: &[Part], key: &str, part: &[u8]) -> Option<(Vec<Part>, String)> {
        let given = self.read(mounts)?.items().iter().enumerate().filter_map(|(index, mount)| {
            let at = mount.get(key)?.text()?;
            Some((at.len(), index, rest_below(at, part)?))
        });
        given.max_by_key(|(length, ..)| *length).map(|(_, index, rest)| (item(mounts, index), rest))
    }

    /// Mounts a part of the volume above `part` there, and not the whole; the keys of a mount's path and of its part.
    pub(super) fn part_alone(
        &self,
        mounts: &[Part],
        keys: (&str, &str),
        part: &[u8],
    ) -> Result<(), PatchError> {
        let (way, rest) = self.mount_above(mounts, keys.0, part).ok_or(PatchError::Lost)?;
        self.set(&below(&way, &[keys.0]), text(part)?)?;
        self.deepen(&below(&way, &[keys.1]), rest)
    }

    /// Adds `rest` to the path that is given at the end of a way, or sets it.
    pub(super) fn deepen(&self, way: &[Part], rest: String) -> Result<(), PatchError> {
        let given = self.read(way).and_then(Node::text);
        self.set(way, given.map(|given| format!("{}/{rest}", given.trim_end_matches('/'))).unwrap_or(rest))
    }

    fn push<L: AsYaml>(
        &self,
        way: &[Part],
        value: impl AsYaml,
        list_of_it: impl FnOnce() -> L,
    ) -> Result<(), PatchError> {
        let path = path_text(way).ok_or(PatchError::Lost)?;
        self.touched.borrow_mut().push(way.to_vec());
        match self.document.try_get_path(&path) {
            Ok(node) => {
                let list = node.as_sequence().ok_or(PatchError::Lost)?;
                list.push(value);
                Ok(())
            }
            Err(_) => self.set(way, list_of_it()),
        }
    }
}

/// The value at the end of a way.
fn at<'a>(node: &'a Node, way: &[Part]) -> Option<&'a Node> {
    way.iter().try_fold(node, |node, part| match part {
        Part::Key(key) => node.get(key),
        Part::Item(index) => node.item(*index),
    })
}

/// Whether both hold the same values, what is at `touched` aside.
fn same_but(old: &Node, new: &Node, way: &mut Vec<Part>, touched: &[Vec<Part>]) -> bool {
    if touched.contains(way) {
        return true;
    }
    let mut child = |part: Part, old: Option<&Node>, new: Option<&Node>| {
        way.push(part);
        let same = match (old, new) {
            (Some(old), Some(new)) => same_but(old, new, way, touched),
            // A mapping that was made on the way to what was set.
            (None, Some(_)) => touched.iter().any(|touched| touched.starts_with(way)),
            (_, None) => touched.contains(way),
        };
        way.pop();
        same
    };
    match (&old.value, &new.value) {
        (Value::Mapping(before), Value::Mapping(after)) => {
            let names = |pairs: &[(Node, Node)]| -> Vec<String> {
                pairs.iter().filter_map(|(key, _)| key.text().map(ToOwned::to_owned)).collect()
            };
            let mut keys = names(before);
            keys.extend(
                names(after).into_iter().filter(|key| before.iter().all(|(old, _)| old.text() != Some(key))),
            );
            keys.into_iter().all(|key| child(Part::Key(key.clone()), old.get(&key), new.get(&key)))
        }
        (Value::Sequence(before), Value::Sequence(after)) => {
            before.len() == after.len()
                && (0..before.len()).all(|index| child(Part::Item(index), old.item(index), new.item(index)))
        }
        (before, after) => before == after,
    }
}

/// `way` with more keys behind it.
pub(super) fn below(way: &[Part], keys: &[&str]) -> Vec<Part> {
    way.iter().cloned().chain(keys.iter().map(|key| Part::Key((*key).to_owned()))).collect()
}

/// A mapping in this order, such as `name: scratch-tmp`.
pub(super) fn mapping(pairs: &[(&str, &str)]) -> Mapping {
    let mapping = Mapping::new();
    pairs.iter().for_each(|(key, value)| mapping.set(*key, *value));
    mapping
}

/// `way` with an element of the list there behind it.
pub(super) fn item(way: &[Part], index: usize) -> Vec<Part> {
    way.iter().cloned().chain([Part::Item(index)]).collect()
}

/// What is left of `part` below `at`.
pub(super) fn rest_below(at: &str, part: &[u8]) -> Option<String> {
    mivask_core::change::below(at.as_bytes(), part).and_then(|rest| String::from_utf8(rest.to_vec()).ok())
}

/// A path as a text of YAML.
pub(super) fn text(path: &[u8]) -> Result<&str, PatchError> {
    std::str::from_utf8(path).map_err(|_| PatchError::Lost)
}

/// A text in quotes, for what a reader of an older YAML could take for a number, such as `1000:50`.
pub(super) fn quoted(text: String) -> YamlValue {
    YamlValue::scalar(ScalarValue::single_quoted(text))
}

/// A way as the editor writes it; `None` where a key has a letter that separates there.
fn path_text(way: &[Part]) -> Option<String> {
    let mut text = String::new();
    for part in way {
        match part {
            Part::Key(key) if key.contains(['.', '[', ']', '\\']) => return None,
            Part::Key(key) => {
                if !text.is_empty() {
                    text.push('.');
                }
                text.push_str(key);
            }
            Part::Item(index) => text.push_str(&format!("[{index}]")),
        }
    }
    Some(text)
}

/// Walks to the value that is at `place`.
fn find(node: &Node, source: &SourceText, place: (usize, usize), way: &mut Vec<Part>) -> bool {
    let here = |node: &Node| source.line_column(node.span.start) == place;
    match &node.value {
        // A mapping begins where its first key does, so it is asked before what is in it.
        Value::Mapping(_) if here(node) => true,
        Value::Mapping(pairs) => {
            for (key, value) in pairs {
                let Some(text) = key.text() else { continue };
                way.push(Part::Key(text.to_owned()));
                let scalar = matches!(value.value, Value::Scalar { .. });
                if scalar && here(value) || find(value, source, place, way) {
                    return true;
                }
                way.pop();
            }
            false
        }
        Value::Sequence(items) => items.iter().enumerate().any(|(index, item)| {
            way.push(Part::Item(index));
            if find(item, source, place, way) {
                return true;
            }
            way.pop();
            false
        }),
        Value::Scalar { .. } => false,
    }
}
