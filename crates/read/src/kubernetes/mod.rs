//! Kubernetes manifests: any number of documents, checked against the types of the whole Kubernetes API.

mod annotations;
mod api;
mod api_volumes;
mod cluster;
mod environment;
mod misplaced;
mod plugins;
mod pod;
mod security;
mod unmodelled;
mod volumes;

use std::sync::Arc;

use mivask_core::scene::Scene;

use crate::diagnostic::{Diagnostics, Severity};
use crate::skipped::Skipped;
use crate::text::SourceText;
use crate::yaml::{Node, Value};
use api::{ObjectMeta, PersistentVolumeClaim};
use pod::Head;

/// The kinds that run containers.
const WORKLOADS: [&str; 9] = [
    "Pod",
    "PodTemplate",
    "Deployment",
    "DaemonSet",
    "ReplicaSet",
    "ReplicationController",
    "StatefulSet",
    "Job",
    "CronJob",
];

/// Whether a document is a Kubernetes object.
#[must_use]
pub fn is_object(node: &Node) -> bool {
    node.get("kind").is_some() && node.get("apiVersion").is_some()
}

/// Adds one object to the scene: a workload, or facts for other workloads. Kinds that are neither are counted.
///
/// `None` where it cannot be used; `diagnostics` says why.
pub fn add(
    node: &Node,
    source: &SourceText,
    scene: &mut Scene,
    skipped: &mut Skipped,
    diagnostics: &mut Diagnostics,
) -> Option<()> {
    let kind = node.get("kind")?;
    let origin = Origin { node, source };
    match kind.text()? {
        "Pod" => {
            let object: api::Pod = api::read("Pod", &origin, diagnostics)?;
            let head = head(object.metadata, "Pod", &origin, diagnostics)?;
            let spec = object.spec.unwrap_or_default();
            add_pod(&spec, (&origin, ""), head, scene, diagnostics);
        }
        "StatefulSet" => {
            let object: api::StatefulSet = api::read("StatefulSet", &origin, diagnostics)?;
            let mut head = head(object.metadata, "StatefulSet", &origin, diagnostics)?;
            head.claims = object.spec.volume_claim_templates;
            claims_of_a_set(&head, &origin, scene);
            let spec = object.spec.template.spec.unwrap_or_default();
            add_pod(&spec, (&origin, "spec.template."), head, scene, diagnostics);
        }
        "CronJob" => {
            let object: api::CronJob = api::read("CronJob", &origin, diagnostics)?;
            let head = head(object.metadata, "CronJob", &origin, diagnostics)?;
            let job = object.spec.job_template.spec.unwrap_or_default();
            let spec = job.template.and_then(|template| template.spec).unwrap_or_default();
            add_pod(&spec, (&origin, "spec.jobTemplate.spec.template."), head, scene, diagnostics);
        }
        "PodTemplate" => {
            let object: api::PodTemplate = api::read("PodTemplate", &origin, diagnostics)?;
            let head = head(object.metadata, "PodTemplate", &origin, diagnostics)?;
            let spec = object.template.and_then(|template| template.spec).unwrap_or_default();
            add_pod(&spec, (&origin, "template."), head, scene, diagnostics);
        }
        "Deployment" => templated("Deployment", &origin, scene, diagnostics)?,
        "DaemonSet" => templated("DaemonSet", &origin, scene, diagnostics)?,
        "ReplicaSet" => templated("ReplicaSet", &origin, scene, diagnostics)?,
        "ReplicationController" => templated("ReplicationController", &origin, scene, diagnostics)?,
        "Job" => templated("Job", &origin, scene, diagnostics)?,
        list if list.ends_with("List") && node.get("items").is_some() => {
            for item in node.get("items").map(Node::items).unwrap_or_default() {
                // Objects of a typed list leave their kind to it.
                match item.get("kind") {
                    None if list != "List" => {
                        add(&with_kind(item, kind, list), source, scene, skipped, diagnostics)
                    }
                    _ => add(item, source, scene, skipped, diagnostics),
                };
            }
        }
        other if cluster::add(other, &origin, &mut scene.cluster, diagnostics) => {}
        other => without_containers(other, kind, source, skipped, diagnostics),
    }
    Some(())
}

/// An object that runs no container here, unless its kind is one of them in the wrong case.
fn without_containers(
    name: &str,
    kind: &Node,
    source: &SourceText,
    skipped: &mut Skipped,
    diagnostics: &mut Diagnostics,
) {
    match WORKLOADS.into_iter().find(|known| known.eq_ignore_ascii_case(name)) {
        Some(known) => {
            let help = Some(format!("did you mean `{known}`? Letter case counts"));
            let message = format!("the API knows no kind `{name}`");
            diagnostics.add(Severity::Error, source, &kind.span, message, help);
        }
        None => skipped.add(name, source, &kind.span),
    }
}

/// `item` of the list called `list` with the kind that this says of it.
fn with_kind(item: &Node, kind: &Node, list: &str) -> Node {
    let mut item = item.clone();
    if let Value::Mapping(pairs) = &mut item.value {
        let mut own = kind.clone();
        if let Value::Scalar { text, .. } = &mut own.value {
            list.trim_end_matches("List").clone_into(text);
        }
        let mut key = kind.clone();
        if let Value::Scalar { text, .. } = &mut key.value {
            "kind".clone_into(text);
        }
        pairs.push((key, own));
    }
    item
}

/// Kinds that hold a pod at `spec.template`.
fn templated(
    kind: &'static str,
    origin: &Origin<'_>,
    scene: &mut Scene,
    diagnostics: &mut Diagnostics,
) -> Option<()> {
    let object: api::Templated = api::read(kind, origin, diagnostics)?;
    let head = head(object.metadata, kind, origin, diagnostics)?;
    let template = object.spec.and_then(|spec| spec.template);
    let spec = template.and_then(|template| template.spec).unwrap_or_default();
    add_pod(&spec, (origin, "spec.template."), head, scene, diagnostics);
    Some(())
}

/// The pod of `spec`, which stands with its metadata at `way` of an object.
fn add_pod(
    spec: &api::PodSpec,
    (origin, way): (&Origin<'_>, &str),
    mut head: Head,
    scene: &mut Scene,
    diagnostics: &mut Diagnostics,
) {
    head.profiles = annotations::profiles(origin, &format!("{way}metadata.annotations"), diagnostics);
    let workload = pod::workload(spec, &origin.at(&format!("{way}spec")), head, diagnostics);
    scene.workloads.extend(workload.map(Arc::new));
}

/// The claims that a StatefulSet makes for its first pod, as facts.
fn claims_of_a_set(head: &Head, origin: &Origin<'_>, scene: &mut Scene) {
    for (index, claim) in head.claims.iter().enumerate() {
        let item = origin.at("spec.volumeClaimTemplates").item(index);
        let claim = PersistentVolumeClaim {
            metadata: ObjectMeta {
                name: claim.metadata.name.as_ref().map(|name| head.claim(name)),
                namespace: Some(head.namespace.clone()),
                ..ObjectMeta::default()
            },
            ..claim.clone()
        };
        cluster::claim(claim, &item, &mut scene.cluster);
    }
}

fn head(
    metadata: ObjectMeta,
    kind: &'static str,
    origin: &Origin<'_>,
    diagnostics: &mut Diagnostics,
) -> Option<Head> {
    let generated = metadata.generate_name.map(|name| name.trim_end_matches('-').to_owned());
    let name = metadata.name.or(generated).filter(|name| !name.is_empty());
    if name.is_none() {
        let (key, _) = origin.node.entry("metadata").or_else(|| origin.node.entry("kind"))?;
        let help = Some("add `name:` under `metadata:`".to_owned());
        diagnostics.add(Severity::Error, origin.source, &key.span, "the object has no name", help);
    }
    let namespace = metadata.namespace.unwrap_or_else(|| DEFAULT_NAMESPACE.to_owned());
    Some(Head { name: name?, namespace, kind, claims: Vec::new(), profiles: Vec::new() })
}

/// The namespace of objects that name none.
const DEFAULT_NAMESPACE: &str = "default";

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
    fn diagnostic(
        &self,
        severity: Severity,
        path: &str,
        message: impl Into<String>,
        help: Option<String>,
        diagnostics: &mut Diagnostics,
    ) {
        diagnostics.add(severity, self.source, &self.at(path).node.span, message, help);
    }
}
