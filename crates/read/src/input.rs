//! From a file name or standard input to a scene: inputs are told apart by content.

use std::io;
use std::path::{Path, PathBuf};

use mivask_core::scene::Scene;

use crate::kubernetes;
use crate::scene_file::{is_scene, read_scene};
use crate::slip::{Severity, Slips};
use crate::text::SourceText;
use crate::yaml::{Node, parse};

/// Largest document that is read, in bytes.
const LARGEST: usize = 256 << 20;

/// Gives the bytes of files; the tests and other programs bring their own.
pub trait FileReader {
    /// The whole file.
    ///
    /// # Errors
    /// Whatever the operating system says.
    fn read(&self, path: &Path) -> io::Result<Vec<u8>>;

    /// The paths directly in a folder, or `None` where `path` is no folder.
    ///
    /// # Errors
    /// Whatever the operating system says.
    fn folder(&self, path: &Path) -> io::Result<Option<Vec<PathBuf>>>;

    /// All of standard input.
    ///
    /// # Errors
    /// Whatever the operating system says.
    fn standard_input(&self) -> io::Result<Vec<u8>>;
}

/// Reads from the file system.
#[derive(Clone, Copy, Debug, Default)]
pub struct Disk;

impl FileReader for Disk {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        std::fs::read(path)
    }

    fn folder(&self, path: &Path) -> io::Result<Option<Vec<PathBuf>>> {
        if !path.is_dir() {
            return Ok(None);
        }
        let entries: io::Result<Vec<PathBuf>> =
            std::fs::read_dir(path)?.map(|entry| Ok(entry?.path())).collect();
        Ok(Some(entries?))
    }

    fn standard_input(&self) -> io::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        io::Read::read_to_end(&mut io::stdin().lock(), &mut bytes)?;
        Ok(bytes)
    }
}

/// Where an input comes from.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Origin {
    /// Standard input, written `-`.
    Standard,
    /// A file or folder.
    File(PathBuf),
}

impl Origin {
    /// The origin that an argument names.
    #[must_use]
    pub fn of(argument: &Path) -> Self {
        if argument == Path::new("-") { Self::Standard } else { Self::File(argument.to_path_buf()) }
    }

    /// The name shown to the user.
    #[must_use]
    pub fn name(&self) -> String {
        match self {
            Self::Standard => "standard input".to_owned(),
            Self::File(path) => path.display().to_string(),
        }
    }
}

/// An input that could not even be looked at.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum InputError {
    /// The operating system refuses.
    #[error("{name} cannot be read: {error}")]
    Io {
        /// The file as the user named it.
        name: String,
        /// What the operating system says.
        error: io::Error,
    },
    /// Not text.
    #[error("{name}:{line}: not UTF-8 text (byte {offset})")]
    Encoding {
        /// The file as the user named it.
        name: String,
        /// Line of the first bad byte, from 1.
        line: usize,
        /// Offset of the first bad byte, from 0.
        offset: usize,
    },
    /// Larger than any description.
    #[error("{name} has {size} bytes: no description is that large")]
    Size {
        /// The file as the user named it.
        name: String,
        /// Its size in bytes.
        size: usize,
    },
    /// A folder without manifests.
    #[error("the folder {name} holds no .yaml, .yml or .json file")]
    EmptyFolder {
        /// The folder as the user named it.
        name: String,
    },
}

/// Reads a scene from a scene file, a manifest, a folder of manifests or standard input.
///
/// Mistakes in what was read are in `slips`; the scene is usable only where none is an error.
///
/// # Errors
/// The input cannot be read at all.
pub fn read_input(origin: &Origin, files: &dyn FileReader, slips: &mut Slips) -> Result<Scene, InputError> {
    let mut scene = Scene::default();
    if let Origin::File(path) = origin
        && let Some(paths) = manifests_in(path, files)?
    {
        for path in paths {
            let source = load(&Origin::File(path), files)?;
            add_documents(&source, &mut scene, slips);
        }
        return Ok(scene);
    }
    let source = load(origin, files)?;
    let documents = parse(&source, slips);
    match documents.as_slice() {
        [only] if is_scene(only) => Ok(read_scene(only, &source, origin, files, slips).unwrap_or_default()),
        documents => {
            if documents.is_empty() && !slips.has_errors() {
                let help = "give a Kubernetes manifest or a scene file (`scene: 1`)".to_owned();
                slips.add(Severity::Error, &source, &(0..0), "there is nothing in it", Some(help));
            }
            add_nodes(documents, &source, &mut scene, slips);
            no_workload(&scene, &source, slips);
            Ok(scene)
        }
    }
}

fn no_workload(scene: &Scene, source: &SourceText, slips: &mut Slips) {
    if scene.workloads.is_empty() && !slips.has_errors() {
        slips.add(Severity::Error, source, &(0..0), "nothing in it runs a container", None);
    }
}

/// The manifests that a scene names: one file or a folder of them. `named` is where the scene names them.
pub(crate) fn read_manifests(
    path: &Path,
    named: (&SourceText, &std::ops::Range<usize>),
    files: &dyn FileReader,
    scene: &mut Scene,
    slips: &mut Slips,
) {
    let read = manifests_in(path, files).and_then(|paths| {
        let paths = paths.unwrap_or_else(|| vec![path.to_path_buf()]);
        paths.into_iter().map(|path| load(&Origin::File(path), files)).collect::<Result<Vec<_>, _>>()
    });
    match read {
        Ok(sources) => sources.iter().for_each(|source| add_documents(source, scene, slips)),
        Err(error) => slips.add(Severity::Error, named.0, named.1, error.to_string(), None),
    }
}

/// The manifests directly in a folder, by name; `None` where `path` is no folder.
fn manifests_in(path: &Path, files: &dyn FileReader) -> Result<Option<Vec<PathBuf>>, InputError> {
    let name = path.display().to_string();
    let Some(mut paths) = files.folder(path).map_err(|error| InputError::Io { name: name.clone(), error })?
    else {
        return Ok(None);
    };
    paths.retain(|path| path.extension().is_some_and(|end| end == "yaml" || end == "yml" || end == "json"));
    paths.sort();
    if paths.is_empty() { Err(InputError::EmptyFolder { name }) } else { Ok(Some(paths)) }
}

fn load(origin: &Origin, files: &dyn FileReader) -> Result<SourceText, InputError> {
    let name = origin.name();
    let bytes = match origin {
        Origin::Standard => files.standard_input(),
        Origin::File(path) => files.read(path),
    };
    let bytes = bytes.map_err(|error| InputError::Io { name: name.clone(), error })?;
    if bytes.len() > LARGEST {
        return Err(InputError::Size { name, size: bytes.len() });
    }
    match std::str::from_utf8(&bytes) {
        Ok(text) => Ok(SourceText::new(&name, text.strip_prefix('\u{feff}').unwrap_or(text))),
        Err(error) => {
            let offset = error.valid_up_to();
            let line = bytes[..offset].split(|byte| *byte == b'\n').count();
            Err(InputError::Encoding { name, line, offset })
        }
    }
}

fn add_documents(source: &SourceText, scene: &mut Scene, slips: &mut Slips) {
    let documents = parse(source, slips);
    add_nodes(&documents, source, scene, slips);
}

fn add_nodes(documents: &[Node], source: &SourceText, scene: &mut Scene, slips: &mut Slips) {
    for document in documents {
        if kubernetes::is_object(document) {
            scene.workloads.extend(kubernetes::workload(document, source, slips));
            continue;
        }
        let (message, help) = match () {
            () if is_scene(document) => ("a scene file cannot stand among other documents", "give it alone"),
            () if document.get("services").is_some() => (
                "Compose files are not read by this version",
                "describe the containers in a scene file: `mivask schema scene`",
            ),
            () if document.get("ociVersion").is_some() => (
                "OCI configurations are not read by this version",
                "describe the container in a scene file: `mivask schema scene`",
            ),
            () => (
                "neither a scene file nor a Kubernetes object",
                "a manifest has `apiVersion:` and `kind:`, a scene file `scene: 1`",
            ),
        };
        slips.add(Severity::Error, source, &head(document), message, Some(help.to_owned()));
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
