//! Kubernetes manifests: any number of documents, typed by the Kubernetes API's own structs.

mod misplaced;
mod pod;
mod security;
mod unmodelled;
mod volumes;

use k8s_openapi::api::apps::v1::Deployment;
use k8s_openapi::api::core::v1::Pod;
use mivask_core::scene::Workload;

use crate::slip::{Severity, Slips};
use crate::text::SourceText;
use crate::yaml::{Node, from_node};
use misplaced::misplaced;

/// Whether a document is a Kubernetes object.
#[must_use]
pub fn is_object(node: &Node) -> bool {
    node.get("kind").is_some() && node.get("apiVersion").is_some()
}

/// The workload of one object; kinds that run nothing here are passed over with a note.
pub fn workload(node: &Node, source: &SourceText, slips: &mut Slips) -> Option<Workload> {
    let kind = node.get("kind")?;
    let origin = Origin { node, source };
    match kind.text()? {
        "Pod" => {
            let object: Pod = from_node(node, source, slips, misplaced)?;
            let name = name(object.metadata.name, &origin, slips)?;
            pod::workload(&object.spec.unwrap_or_default(), &origin.at("spec"), name, "Pod", slips)
        }
        "Deployment" => {
            let object: Deployment = from_node(node, source, slips, misplaced)?;
            let name = name(object.metadata.name, &origin, slips)?;
            let spec = object.spec.template.spec.unwrap_or_default();
            pod::workload(&spec, &origin.at("spec.template.spec"), name, "Deployment", slips)
        }
        other => {
            let message = format!("`{other}` is passed over: this version answers for Pod and Deployment");
            slips.add(Severity::Note, source, &kind.span, message, None);
            None
        }
    }
}

fn name(name: Option<String>, origin: &Origin<'_>, slips: &mut Slips) -> Option<String> {
    if name.as_ref().is_none_or(String::is_empty) {
        let (key, _) = origin.node.entry("metadata").or_else(|| origin.node.entry("kind"))?;
        let help = Some("add `name:` under `metadata:`".to_owned());
        slips.add(Severity::Error, origin.source, &key.span, "the object has no name", help);
    }
    name.filter(|name| !name.is_empty())
}

/// A part of a document, for provenance.
#[derive(Clone, Copy, Debug)]
struct Origin<'a> {
    node: &'a Node,
    source: &'a SourceText,
}

impl<'a> Origin<'a> {
    /// The part at a path of keys; this part itself where it is missing.
    fn at(&self, path: &str) -> Self {
        Self { node: self.node.find(path).unwrap_or(self.node), source: self.source }
    }

    /// The element `index` of this list.
    fn item(&self, index: usize) -> Self {
        Self { node: self.node.item(index).unwrap_or(self.node), source: self.source }
    }

    /// The provenance of the value at `path`, called `field` in answers.
    fn place(&self, path: &str, field: &str) -> mivask_core::fact::Provenance {
        self.source.place(&self.at(path).node.span, field)
    }

    /// A fact read at `path`.
    fn fact<T>(&self, path: &str, field: &str, value: T) -> mivask_core::fact::Fact<T> {
        mivask_core::fact::Fact::new(value, self.place(path, field))
    }

    /// Reports something about the value at `path`.
    fn slip(
        &self,
        severity: Severity,
        path: &str,
        message: impl Into<String>,
        help: Option<String>,
        slips: &mut Slips,
    ) {
        slips.add(severity, self.source, &self.at(path).node.span, message, help);
    }
}
