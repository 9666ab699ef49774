//! A YAML text that is edited where it stands.

use std::str::FromStr;

use yaml_edit::path::YamlPath;
use yaml_edit::{AsYaml, Mapping, Sequence, YamlFile, YamlValue};

use super::PatchError;
use crate::slip::Slips;
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
    node: Node,
    container: Vec<Part>,
}

impl Document {
    /// The document of `text` that holds the container at `place`: line and column of its mapping, or of its name.
    pub(super) fn open(text: &str, place: (usize, usize)) -> Result<Self, PatchError> {
        let source = SourceText::new("", text);
        let mut slips = Slips::default();
        let nodes = parse(&source, &mut slips);
        let found = nodes.iter().enumerate().find_map(|(number, node)| {
            let mut way = Vec::new();
            find(node, &source, place, &mut way).then_some((number, node, way))
        });
        let (number, node, mut container) = found.ok_or(PatchError::Lost)?;
        if container.last() == Some(&Part::Key("name".to_owned())) {
            container.pop();
        }
        let file = YamlFile::from_str(text).map_err(|_| PatchError::Lost)?;
        // Empty documents are none to the reader.
        let mut documents = file.documents().filter(|document| !document.is_empty());
        let document = documents.nth(number).ok_or(PatchError::Lost)?;
        Ok(Self { file, document, node: node.clone(), container })
    }

    /// The text as it is now.
    pub(super) fn text(&self) -> String {
        self.file.to_string()
    }

    /// The way to the container.
    pub(super) fn container(&self) -> &[Part] {
        &self.container
    }

    /// The value at the end of a way, as it was read.
    pub(super) fn read(&self, way: &[Part]) -> Option<&Node> {
        way.iter().try_fold(&self.node, |node, part| match part {
            Part::Key(key) => node.get(key),
            Part::Item(index) => node.item(*index),
        })
    }

    /// Sets the value at the end of a way; mappings on the way are made where they are missing.
    pub(super) fn set(&self, way: &[Part], value: impl AsYaml) -> Result<(), PatchError> {
        let path = path_text(way).ok_or(PatchError::Lost)?;
        self.document.try_set_path(&path, value).map_err(|_| PatchError::Lost)
    }

    /// Adds `value` to the list at the end of a way, which is made where it is missing.
    pub(super) fn append(&self, way: &[Part], value: YamlValue) -> Result<(), PatchError> {
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

    fn push<L: AsYaml>(
        &self,
        way: &[Part],
        value: impl AsYaml,
        list_of_it: impl FnOnce() -> L,
    ) -> Result<(), PatchError> {
        let path = path_text(way).ok_or(PatchError::Lost)?;
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

/// Walks to the value that stands at `place`.
fn find(node: &Node, source: &SourceText, place: (usize, usize), way: &mut Vec<Part>) -> bool {
    let here = |node: &Node| source.line_column(node.span.start) == place;
    match &node.value {
        Value::Mapping(pairs) => {
            for (key, value) in pairs {
                let Some(text) = key.text() else { continue };
                way.push(Part::Key(text.to_owned()));
                let scalar = matches!(value.value, Value::Scalar { .. });
                if scalar && here(value) || find(value, source, place, way) || here(key) && !scalar {
                    return true;
                }
                way.pop();
            }
            // A mapping stands where its first key does.
            here(node)
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
