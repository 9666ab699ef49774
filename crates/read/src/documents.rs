//! Documents of descriptions, recognised by content and added to a scene.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use mivask_core::scene::Scene;
use mivask_core::unmodelled::Unmodelled;

use crate::command_line;
use crate::compose;
use crate::diagnostic::{Diagnostics, Severity};
use crate::files::{FileReader, InputError, Origin};
use crate::kubernetes;
use crate::oci;
use crate::skipped::Skipped;
use crate::stream::Stream;
use crate::text::SourceText;
use crate::yaml::{Node, parse};

/// Whether a document is a scene file.
#[must_use]
pub fn is_scene(node: &Node) -> bool {
    node.get("scene").is_some()
}

/// The Compose files that a scene names to be merged. `named` is where it does.
pub(crate) fn merge_named(
    paths: &[PathBuf],
    named: (&SourceText, &std::ops::Range<usize>),
    files: &dyn FileReader,
    scene: &mut Scene,
    diagnostics: &mut Diagnostics,
) {
    if let Err(error) = merge(paths, files, scene, diagnostics) {
        diagnostics.add(Severity::Error, named.0, named.1, error.to_string(), None);
    }
}

/// Adds every document of these files.
fn add_files(
    paths: &[PathBuf],
    files: &dyn FileReader,
    scene: &mut Scene,
    diagnostics: &mut Diagnostics,
) -> Result<(), InputError> {
    let mut adding = Adding { scene, skipped: Skipped::default(), files, folder: PathBuf::new() };
    for path in paths {
        adding.folder = folder_of(path);
        let mut stream = open(&Origin::File(path.clone()), files)?;
        while let Some(source) = stream.next()? {
            if !add_commands(&source, &mut adding, diagnostics) {
                add_nodes(&parse(&source, diagnostics), &source, &mut adding, diagnostics);
            }
        }
    }
    adding.skipped.report(diagnostics);
    Ok(())
}

/// The manifests that a scene names: one file or a folder of them. `named` is where the scene names them.
pub(crate) fn read_manifests(
    path: &Path,
    named: (&SourceText, &std::ops::Range<usize>),
    files: &dyn FileReader,
    scene: &mut Scene,
    diagnostics: &mut Diagnostics,
) {
    let paths = manifests_in(path, files);
    let paths = paths.map(|paths| paths.unwrap_or_else(|| vec![path.to_path_buf()]));
    if let Err(error) = paths.and_then(|paths| add_files(&paths, files, scene, diagnostics)) {
        diagnostics.add(Severity::Error, named.0, named.1, error.to_string(), None);
    }
}

/// The manifests directly in a folder, by name; `None` where `path` is not a folder.
pub(crate) fn manifests_in(path: &Path, files: &dyn FileReader) -> Result<Option<Vec<PathBuf>>, InputError> {
    let name = path.display().to_string();
    let Some(mut paths) = files.folder(path).map_err(|error| InputError::Io { name: name.clone(), error })?
    else {
        return Ok(None);
    };
    let endings = ["yaml", "yml", "json", "container", "kube"];
    paths.retain(|path| endings.iter().any(|known| path.extension().is_some_and(|end| end == *known)));
    paths.sort();
    compose::without_overrides(&mut paths);
    if paths.is_empty() { Err(InputError::EmptyFolder { name }) } else { Ok(Some(paths)) }
}

/// An input as a stream of its documents.
pub(crate) fn open(origin: &Origin, files: &dyn FileReader) -> Result<Stream, InputError> {
    let name = origin.name();
    let lines = match origin {
        Origin::Standard => files.open_standard_input(),
        Origin::File(path) => files.open(path),
    };
    match lines {
        Ok(lines) => Ok(Stream::new(name, lines)),
        Err(error) => Err(InputError::Io { name, error }),
    }
}

/// What documents are added to.
pub(crate) struct Adding<'a> {
    /// The scene.
    pub scene: &'a mut Scene,
    /// Objects that are neither workloads nor facts about them.
    pub skipped: Skipped,
    /// Reads the files that documents name.
    pub files: &'a dyn FileReader,
    /// Where relative paths begin.
    pub folder: PathBuf,
}

fn folder_of(path: &Path) -> PathBuf {
    path.parent().unwrap_or(Path::new("")).to_path_buf()
}

/// Adds the manifests that Podman plays: what it makes of them is not what a kubelet does, so that answers depend on it.
fn played(
    manifests: &[PathBuf],
    source: &SourceText,
    adding: &mut Adding<'_>,
    diagnostics: &mut Diagnostics,
) {
    if manifests.is_empty() {
        return;
    }
    let settle = "ask about the manifest itself to see what a kubelet does";
    let message = "Podman plays these manifests in a way of its own, which is not modelled";
    diagnostics.add(Severity::Warning, source, &(0..0), message.to_owned(), Some(settle.to_owned()));
    let before = adding.scene.workloads.len();
    if let Err(error) = add_files(manifests, adding.files, adding.scene, diagnostics) {
        diagnostics.add(Severity::Error, source, &(0..0), error.to_string(), None);
    }
    let from = source.place(&(0..0), "Yaml");
    for workload in adding.scene.workloads.iter_mut().skip(before) {
        for container in &mut Arc::make_mut(workload).containers {
            container.unmodelled.push(Unmodelled::ids("`podman kube play`", settle, from.clone()));
        }
    }
}

/// Adds what the commands of a script or a unit make; whether the text is one.
pub(crate) fn add_commands(
    source: &SourceText,
    adding: &mut Adding<'_>,
    diagnostics: &mut Diagnostics,
) -> bool {
    if command_line::unit::is_one(&source.text) {
        let from = (adding.folder.as_path(), adding.files);
        let manifests = command_line::unit::add(source, from, adding.scene, diagnostics);
        played(&manifests, source, adding, diagnostics);
        return true;
    }
    let is_one = command_line::is_one(&source.text);
    if is_one {
        command_line::add(source, &adding.folder, adding.files, adding.scene, diagnostics);
    }
    is_one
}

/// Adds each document to the scene; one that is nothing of ours is a mistake.
pub(crate) fn add_nodes(
    documents: &[Node],
    source: &SourceText,
    adding: &mut Adding<'_>,
    diagnostics: &mut Diagnostics,
) {
    for document in documents {
        if kubernetes::is_object(document) {
            kubernetes::add(document, source, adding.scene, &mut adding.skipped, diagnostics);
            continue;
        }
        if compose::is_project(document) {
            let given = (document, source, adding.folder.as_path());
            compose::add_file(given, adding.files, adding.scene, diagnostics);
            continue;
        }
        if command_line::is_inspected(document) {
            let from = (adding.folder.as_path(), adding.files);
            command_line::add_inspected(document, source, from, adding.scene, diagnostics);
            continue;
        }
        if oci::is_config(document) {
            oci::add(document, source, (adding.files, &adding.folder), adding.scene, diagnostics);
            continue;
        }
        let (message, help) = if is_scene(document) {
            ("a scene file cannot be one of several documents", "give it alone")
        } else {
            (
                "neither a Kubernetes object, a Compose file, an OCI configuration, a scene file, an engine's command line, what it prints of a container, nor a unit of Podman's",
                "a manifest has `apiVersion:` and `kind:`, a Compose file `services:`, a configuration `ociVersion`, a scene file `scene: 1`, a script a command such as `docker run`, a printed container `Config` and `HostConfig`, a unit `[Container]`",
            )
        };
        diagnostics.add(Severity::Error, source, &head(document), message, Some(help.to_owned()));
    }
}

/// The first key of a document, or the whole of it.
fn head(document: &Node) -> std::ops::Range<usize> {
    match &document.value {
        crate::yaml::Value::Mapping(pairs) => {
            pairs.first().map_or_else(|| document.span.clone(), |(key, _)| key.span.clone())
        }
        crate::yaml::Value::Scalar { .. } | crate::yaml::Value::Sequence(_) => document.span.clone(),
    }
}

/// The folder where relative paths of an input begin.
pub(crate) fn folder_of_origin(origin: &Origin) -> PathBuf {
    match origin {
        Origin::File(path) => folder_of(path),
        Origin::Standard => PathBuf::new(),
    }
}

/// Reads several Compose files as one project into `scene`, later ones merged on top.
pub(crate) fn merge(
    paths: &[PathBuf],
    files: &dyn FileReader,
    scene: &mut Scene,
    diagnostics: &mut Diagnostics,
) -> Result<(), InputError> {
    let mut read: Vec<(Node, SourceText, PathBuf)> = Vec::new();
    for path in paths {
        let origin = Origin::of(path);
        let mut stream = open(&origin, files)?;
        let mut documents = Vec::new();
        while let Some(source) = stream.next()? {
            let nodes = parse(&source, diagnostics);
            documents.extend(nodes.into_iter().map(|node| (node, source.clone())));
        }
        let wrong = documents.iter().find(|(node, _)| kubernetes::is_object(node) || is_scene(node));
        if let Some((node, source)) = wrong.or(documents.get(1)) {
            let message = "only Compose files of one document each are merged";
            let help = Some("in a scene file write `workloads: [[first, second]]`".to_owned());
            diagnostics.add(Severity::Error, source, &head(node), message, help);
        }
        let folder = folder_of_origin(&origin);
        read.extend(documents.into_iter().map(|(node, source)| (node, source, folder.clone())));
    }
    if !diagnostics.has_errors() {
        let parts: Vec<(Node, &SourceText, &Path)> =
            read.iter().map(|(node, source, folder)| (node.clone(), source, folder.as_path())).collect();
        compose::add(&parts, files, scene, diagnostics);
    }
    Ok(())
}
