//! Kubernetes manifests: any number of documents, typed by the Kubernetes API's own structs.

mod api_volumes;
mod cluster;
mod environment;
mod misplaced;
mod pod;
mod security;
mod unmodelled;
mod volumes;

use k8s_openapi::api::apps::v1::{DaemonSet, Deployment, ReplicaSet, StatefulSet};
use k8s_openapi::api::batch::v1::{CronJob, Job};
use k8s_openapi::api::core::v1::{PersistentVolumeClaim, Pod, PodTemplate, ReplicationController};
use k8s_openapi::apimachinery::pkg::apis::meta::v1::ObjectMeta;
use mivask_core::scene::Scene;

use crate::passed::Passed;
use crate::slip::{Severity, Slips};
use crate::text::SourceText;
use crate::yaml::{Node, Value, from_node};
use misplaced::misplaced;
use pod::Head;

/// Whether a document is a Kubernetes object.
#[must_use]
pub fn is_object(node: &Node) -> bool {
    node.get("kind").is_some() && node.get("apiVersion").is_some()
}

/// Adds one object to the scene: a workload, or facts for other workloads. Kinds that are neither are counted.
///
/// `None` where it cannot be used; `slips` says why.
pub fn add(
    node: &Node,
    source: &SourceText,
    scene: &mut Scene,
    passed: &mut Passed,
    slips: &mut Slips,
) -> Option<()> {
    let kind = node.get("kind")?;
    let origin = Origin { node, source };
    match kind.text()? {
        "Pod" => {
            let object: Pod = from_node(node, source, slips, misplaced)?;
            let head = head(object.metadata, "Pod", &origin, slips)?;
            let spec = object.spec.unwrap_or_default();
            scene.workloads.extend(pod::workload(&spec, &origin.at("spec"), head, slips));
        }
        "StatefulSet" => {
            let object: StatefulSet = from_node(node, source, slips, misplaced)?;
            let mut head = head(object.metadata, "StatefulSet", &origin, slips)?;
            let set = object.spec;
            head.claims = set.volume_claim_templates.unwrap_or_default();
            claims_of_a_set(&head, &origin, scene);
            let spec = set.template.spec.unwrap_or_default();
            scene.workloads.extend(pod::workload(&spec, &origin.at("spec.template.spec"), head, slips));
        }
        "CronJob" => {
            let object: CronJob = from_node(node, source, slips, misplaced)?;
            let head = head(object.metadata, "CronJob", &origin, slips)?;
            let job = object.spec.job_template.spec.unwrap_or_default();
            let spec = job.template.spec.unwrap_or_default();
            let at = origin.at("spec.jobTemplate.spec.template.spec");
            scene.workloads.extend(pod::workload(&spec, &at, head, slips));
        }
        "PodTemplate" => {
            let object: PodTemplate = from_node(node, source, slips, misplaced)?;
            let head = head(object.metadata, "PodTemplate", &origin, slips)?;
            let spec = object.template.and_then(|template| template.spec).unwrap_or_default();
            scene.workloads.extend(pod::workload(&spec, &origin.at("template.spec"), head, slips));
        }
        "Deployment" | "DaemonSet" | "ReplicaSet" | "ReplicationController" | "Job" => {
            templated(kind.text()?, &origin, scene, slips)?;
        }
        list if list.ends_with("List") && node.get("items").is_some() => {
            for item in node.get("items").map(Node::items).unwrap_or_default() {
                // Objects of a typed list leave their kind to it.
                match item.get("kind") {
                    None if list != "List" => add(&with_kind(item, kind, list), source, scene, passed, slips),
                    _ => add(item, source, scene, passed, slips),
                };
            }
        }
        other if cluster::add(other, &origin, &mut scene.cluster, slips) => {}
        other => passed.add(other, source, &kind.span),
    }
    Some(())
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
fn templated(kind: &str, origin: &Origin<'_>, scene: &mut Scene, slips: &mut Slips) -> Option<()> {
    macro_rules! pod_of {
        ($($name:literal $type:ident $template:expr;)+) => {
            match kind {
                $($name => {
                    let object: $type = from_node(origin.node, origin.source, slips, misplaced)?;
                    let template: fn($type) -> _ = $template;
                    (head(object.metadata.clone(), $name, origin, slips)?, template(object))
                })+
                _ => return None,
            }
        };
    }
    let (head, spec) = pod_of! {
        "Deployment" Deployment |object| object.spec.template.spec;
        "DaemonSet" DaemonSet |object| object.spec.template.spec;
        "ReplicaSet" ReplicaSet |object| object.spec.template?.spec;
        "ReplicationController" ReplicationController |object| object.spec.and_then(|spec| spec.template?.spec);
        "Job" Job |object| object.spec.and_then(|spec| spec.template.spec);
    };
    let at = origin.at("spec.template.spec");
    scene.workloads.extend(pod::workload(&spec.unwrap_or_default(), &at, head, slips));
    Some(())
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

fn head(metadata: ObjectMeta, kind: &'static str, origin: &Origin<'_>, slips: &mut Slips) -> Option<Head> {
    let generated = metadata.generate_name.map(|name| name.trim_end_matches('-').to_owned());
    let name = metadata.name.or(generated).filter(|name| !name.is_empty());
    if name.is_none() {
        let (key, _) = origin.node.entry("metadata").or_else(|| origin.node.entry("kind"))?;
        let help = Some("add `name:` under `metadata:`".to_owned());
        slips.add(Severity::Error, origin.source, &key.span, "the object has no name", help);
    }
    let namespace = metadata.namespace.unwrap_or_else(|| DEFAULT_NAMESPACE.to_owned());
    Some(Head { name: name?, namespace, kind, claims: Vec::new() })
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
