//! Compose files (the open Compose specification).

mod build;
mod casts;
mod consistent;
mod environment;
mod extends;
mod include;
mod interpolate;
mod joined;
mod lender;
mod load;
mod merge;
mod override_file;
mod project;
mod resources;
mod service;
mod setting;
mod types;
mod volumes;

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use mivask_core::recipe::Recipe;
use mivask_core::scene::{Scene, Workload};

use crate::diagnostic::{Diagnostics, Severity};
use crate::files::FileReader;
use crate::text::SourceText;
use crate::yaml::{Node, parse};
use load::Loader;
pub(crate) use override_file::without_overrides;
use project::Reading;

/// Whether a document is a Compose file.
#[must_use]
pub fn is_project(node: &Node) -> bool {
    node.get("apiVersion").is_none() && (node.get("services").is_some() || node.get("include").is_some())
}

/// Reads the project that `sources` describe, later ones merged on top; each with the folder that its relative
/// paths begin at. The first one's folder is the project's, whose `.env` counts.
///
/// What cannot be used is left out; `diagnostics` says why.
pub fn add(
    sources: &[(Node, &SourceText, &Path)],
    files: &dyn FileReader,
    scene: &mut Scene,
    diagnostics: &mut Diagnostics,
) {
    let Some((_, _, folder)) = sources.first() else { return };
    let Some(whole) = load(sources, files, diagnostics) else { return };
    let Loaded { root, source, variables, name } = whole;
    let variable = |name: &str| files.variable(name).or_else(|| variables.get(name).cloned());
    let mut reading = Reading::new((&root, &source, *folder), (files, &variable), name, diagnostics);
    let workload = reading.workload();
    scene.builds.extend(reading.builds);
    scene.workloads.extend(workload.map(Arc::new));
}

/// The workload of a project that was made of another description, and how its images are built: nothing in it is interpolated or
/// merged.
pub(crate) fn workload(
    (root, source, folder): (&Node, &SourceText, &Path),
    files: &dyn FileReader,
    name: &str,
    diagnostics: &mut Diagnostics,
) -> Option<(Workload, Vec<(String, Recipe)>)> {
    let mut reading = Reading::new((root, source, folder), (files, &|_| None), name.to_owned(), diagnostics);
    let workload = reading.workload()?;
    Some((workload, reading.builds))
}

/// Reads the project of one file, and what an engine merges on top of it where nobody names a file.
pub(crate) fn add_file(
    (node, source, folder): (&Node, &SourceText, &Path),
    files: &dyn FileReader,
    scene: &mut Scene,
    diagnostics: &mut Diagnostics,
) {
    let upper = override_file::on_top_of(Path::new(&*source.name), files);
    let read = upper.and_then(|path| {
        let name = path.display().to_string();
        let text = String::from_utf8(files.read(&path).ok()?).ok()?;
        let source = SourceText::new(&name, &text);
        let node = parse(&source, diagnostics).into_iter().next()?;
        Some((node, source))
    });
    let mut parts = vec![(node.clone(), source, folder)];
    if let Some((node, upper)) = &read {
        let message = format!("{} is merged on top, as by an engine that is told no file", upper.name);
        diagnostics.add(Severity::Note, source, &(0..0), message, None);
        parts.push((node.clone(), upper, folder));
    }
    add(&parts, files, scene, diagnostics);
}

/// The files of a project as one.
struct Loaded {
    root: Node,
    source: SourceText,
    variables: BTreeMap<String, String>,
    name: String,
}

fn load(
    sources: &[(Node, &SourceText, &Path)],
    files: &dyn FileReader,
    diagnostics: &mut Diagnostics,
) -> Option<Loaded> {
    let (_, _, folder) = sources.first()?;
    let mut loader = Loader::new(files, folder, diagnostics);
    let mut whole: Option<Node> = None;
    for (node, source, folder) in sources {
        let node = loader.node(node.clone(), source, folder)?;
        whole = Some(match whole {
            Some(lower) => merge::merge(lower, node, ""),
            None => node,
        });
    }
    let mut whole = whole?;
    merge::settle(&mut whole);
    let source = loader.joined();
    let unset = loader.unset();
    let name = loader.variable("COMPOSE_PROJECT_NAME");
    if !unset.is_empty() {
        let message = format!("no value for {}: each counts as empty", unset.join(", "));
        let help = "set it in the environment or in `.env` beside the file".to_owned();
        loader.diagnostics.add(Severity::Warning, &source, &whole.span, message, Some(help));
    }
    let folder_name = files.absolute(folder).file_name().map(|name| name.to_string_lossy().into_owned());
    let name = name.or(folder_name).unwrap_or_else(|| "project".to_owned());
    Some(Loaded { root: whole, source, variables: loader.variables(), name })
}
