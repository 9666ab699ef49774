//! From a scene file to a scene.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use mivask_core::fact::Fact;
use mivask_core::policy::Policy;
use mivask_core::runtime::{Builder, Runtime};
use mivask_core::scene::{Assigned, Scene};
use mivask_disk::error::DiskError;
use mivask_disk::gathered::Gathered;
use mivask_disk::image::Choice;
use mivask_disk::mounts::MountLine;
use mivask_disk::place::Place;

use super::listed::Listed;
use super::types::{AssignedSection, BuilderName, RuntimeName, SceneFile};
use crate::described::Described;
use crate::diagnostic::{Diagnostics, Severity};
use crate::documents::{merge_named, read_manifests};
use crate::files::{FileReader, Origin};
use crate::text::SourceText;
use crate::yaml::{Node, from_node};

/// One scene file being read.
pub(super) struct Reading<'a> {
    pub source: &'a SourceText,
    pub diagnostics: &'a mut Diagnostics,
    pub(super) folder: PathBuf,
    pub(super) files: &'a dyn FileReader,
}

impl Reading<'_> {
    /// The name and text of a file named in the scene.
    pub(super) fn read_file(&self, path: &str) -> Result<(String, String), String> {
        let full = self.folder.join(path);
        let shown = full.display().to_string();
        let bytes = self.files.read(&full).map_err(|error| format!("{shown} cannot be read: {error}"))?;
        let text = String::from_utf8(bytes).map_err(|_| format!("{shown} is not UTF-8"))?;
        Ok((shown, text))
    }

    /// The facts of a source named in the scene.
    pub(super) fn gather(&self, path: &str, choice: &Choice) -> Result<(String, Gathered), DiskError> {
        // The name of an image somewhere else is no path.
        let elsewhere = Place::of_image(path).is_some();
        let full = if elsewhere { PathBuf::from(path) } else { self.folder.join(path) };
        Ok((full.display().to_string(), self.files.gather(&full, choice)?))
    }

    /// The lines of a table of mounts named in the scene.
    pub(super) fn mount_table(&self, path: &str) -> Result<(String, Vec<MountLine>), DiskError> {
        let full = self.folder.join(path);
        let shown = full.display().to_string();
        let mut input = self.files.open(&full).map_err(|error| DiskError::io(&shown, &error))?;
        let lines = mivask_disk::mounts::read(&shown, &mut input)?;
        Ok((shown, lines))
    }

    /// Where images are looked for; paths are from this file's folder.
    fn places(&mut self, given: &[String], node: Option<&Node>) -> Vec<String> {
        let mut places = Vec::new();
        for (index, text) in given.iter().enumerate() {
            let beside = self.folder.join(text);
            // A folder beside the scene may have a name without a slash.
            let is_beside = matches!(self.files.folder(&beside), Ok(Some(_)));
            match Place::parse(text) {
                Err(_) if is_beside => places.push(beside.display().to_string()),
                Ok(Place::Folder(path)) => places.push(self.folder.join(path).display().to_string()),
                Ok(_) => places.push(text.clone()),
                Err(error) => {
                    let Some(at) = node.and_then(|node| node.item(index)).or(node) else { continue };
                    self.diagnostics.add(Severity::Error, self.source, &at.span, error.to_string(), None);
                }
            }
        }
        places
    }

    fn assigned(&self, section: &AssignedSection, node: &Node) -> Assigned {
        let fact = |key: &str, value: Option<u32>| {
            let node = node.get("assigned").and_then(|at| at.get(key)).unwrap_or(node);
            value.map(|id| Fact::new(id, self.source.place(&node.span, &format!("assigned.{key}"))))
        };
        Assigned {
            user: fact("user", section.user),
            group: fact("group", section.group),
            filesystem_group: fact("filesystem-group", section.filesystem_group),
        }
    }

    /// A runtime that cannot run what the scene names is a mistake, not a choice.
    fn runtime_fits(&mut self, scene: &Scene, node: &Node) {
        let Some(runtime) = scene.runtime else { return };
        if let Some(workload) = scene.workloads.iter().find(|workload| !runtime.runs(workload.flavour)) {
            let span = &node.get("runtime").unwrap_or(node).span;
            let usual = workload.flavour.usual().word();
            let message = format!(
                "{} does not run {}s: {} is looked at under {usual}",
                runtime.word(),
                workload.kind,
                workload.name
            );
            self.diagnostics.add(Severity::Warning, self.source, span, message, None);
        }
    }
}

const fn runtime(name: RuntimeName) -> Runtime {
    match name {
        RuntimeName::Containerd => Runtime::Containerd,
        RuntimeName::Containerd16 => Runtime::Containerd16,
        RuntimeName::CriO => Runtime::CriO,
        RuntimeName::Docker => Runtime::Docker,
        RuntimeName::Podman => Runtime::Podman,
        RuntimeName::Runc => Runtime::Runc,
        RuntimeName::Crun => Runtime::Crun,
    }
}

const fn builder(name: BuilderName) -> Builder {
    match name {
        BuilderName::Buildkit => Builder::BuildKit,
        BuilderName::Classic => Builder::Classic,
        BuilderName::Buildah => Builder::Buildah,
    }
}

/// A scene of which no more than whose rules apply is known.
fn beginning(scene_file: &SceneFile) -> Scene {
    Scene {
        runtime: scene_file.runtime.map(runtime),
        builder: scene_file.builder.map(builder),
        ..Scene::default()
    }
}

/// Reads the facts of the scene file `node`; manifests and account files it names are read through `files`.
///
/// `None` where it cannot be used; `diagnostics` says why.
pub fn read_scene(
    node: &Node,
    source: &SourceText,
    origin: &Origin,
    files: &dyn FileReader,
    diagnostics: &mut Diagnostics,
) -> Option<Scene> {
    described(node, source, origin, files, diagnostics).map(|described| described.scene)
}

/// `None`, and a mistake, where this version does not read format `version`.
fn known_version(
    version: u32,
    node: &Node,
    source: &SourceText,
    diagnostics: &mut Diagnostics,
) -> Option<()> {
    if version == 1 {
        return Some(());
    }
    let span = &node.get("scene").unwrap_or(node).span;
    let message = format!("scene format {version} is not known");
    let help = Some("this version reads `scene: 1`".to_owned());
    diagnostics.add(Severity::Error, source, span, message, help);
    None
}

/// The same with what the scene demands.
pub(crate) fn described(
    node: &Node,
    source: &SourceText,
    origin: &Origin,
    files: &dyn FileReader,
    diagnostics: &mut Diagnostics,
) -> Option<Described> {
    let scene_file: SceneFile = from_node(node, source, diagnostics, misplaced)?;
    known_version(scene_file.scene, node, source, diagnostics)?;
    let folder = match origin {
        Origin::Standard => PathBuf::new(),
        Origin::File(path) => path.parent().unwrap_or(Path::new("")).to_path_buf(),
    };
    let mut scene = beginning(&scene_file);
    let mut reading = Reading { source, diagnostics, folder, files };
    scene.images_from = reading.places(&scene_file.images_from, node.get("images-from"));
    for (name, section) in &scene_file.images {
        let Some(at) = node.get("images").and_then(|images| images.get(name)) else {
            continue;
        };
        let image = reading.image(name, section, at);
        scene.images.insert(name.clone(), image);
    }
    for (name, section) in &scene_file.volumes {
        let Some(at) = node.get("volumes").and_then(|volumes| volumes.get(name)) else {
            continue;
        };
        let volume = reading.volume(name, section, at);
        scene.volumes.insert(name.clone(), volume);
    }
    scene.host = reading.host(&scene_file.host, node.get("host"));
    let listed = node.get("workloads").map(Node::items).unwrap_or_default();
    for (entry, at) in scene_file.workloads.iter().zip(listed) {
        let named = (reading.source, &at.span);
        match entry {
            Listed::One(path) => {
                let path = reading.folder.join(path);
                read_manifests(&path, named, reading.files, &mut scene, reading.diagnostics);
            }
            Listed::Merged(paths) => {
                let paths: Vec<PathBuf> = paths.iter().map(|path| reading.folder.join(path)).collect();
                merge_named(&paths, named, reading.files, &mut scene, reading.diagnostics);
            }
        }
    }
    scene.title = scene_file.title.clone();
    scene.assigned = reading.assigned(&scene_file.assigned, node);
    let policy = Policy {
        limits: reading.limits(&scene_file.at_most, node),
        accepted: reading.accepted(&scene_file.accept, node),
        expectations: reading.expectations(scene_file.expect.as_ref(), node),
    };
    reading.runtime_fits(&scene, node);
    let own = reading.containers(&scene_file, node);
    scene.workloads.extend(own.map(Arc::new));
    let people = reading.people(&scene_file.host, &scene.host, node.get("host"));
    scene.workloads.extend(people.map(Arc::new));
    reading.umasks(&scene_file.umasks, &mut scene, node);
    if scene.workloads.is_empty() && !diagnostics.has_errors() {
        let help =
            "name a manifest under `workloads:`, or describe `containers:` or `host: { people: ... }` here"
                .to_owned();
        diagnostics.add(Severity::Error, source, &node.span, "the scene has no workload", Some(help));
    }
    Some(Described { scene, policy })
}

/// Where keys belong that are at the wrong level.
fn misplaced(holder: &str, key: &str) -> Option<&'static str> {
    match (holder, key) {
        ("SceneFile", "sysctls" | "tree") => Some("under `host:`"),
        ("ContainerSection", "volumes" | "volumeMounts") => Some("under `mounts:` of the container"),
        ("ContainerSection", "runAsUser") => Some("under the name `user`"),
        ("ContainerSection", "fsGroup") => Some("under the name `filesystem-group`"),
        _ => None,
    }
}
