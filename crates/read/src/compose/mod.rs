//! Compose files (the open Compose specification).

mod interpolate;
mod load;
mod merge;
mod project;
mod resources;
mod service;
mod types;
mod volumes;

use std::path::Path;

use mivask_core::scene::Workload;

use crate::files::FileReader;
use crate::slip::{Severity, Slips};
use crate::text::SourceText;
use crate::yaml::Node;
use load::Loader;

/// Whether a document is a Compose file.
#[must_use]
pub fn is_project(node: &Node) -> bool {
    node.get("apiVersion").is_none() && (node.get("services").is_some() || node.get("include").is_some())
}

/// Reads the project that `sources` describe, later ones merged on top; each with the folder that its relative
/// paths begin at. The first one's folder is the project's, whose `.env` counts.
///
/// `None` where it cannot be used; `slips` says why.
pub fn read(
    sources: &[(Node, &SourceText, &Path)],
    files: &dyn FileReader,
    slips: &mut Slips,
) -> Option<Workload> {
    let (_, _, folder) = sources.first()?;
    let mut loader = Loader::new(files, folder, slips);
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
    let variable = |name: &str| loader.variable(name);
    let profiles = variable("COMPOSE_PROFILES").unwrap_or_default();
    let name = variable("COMPOSE_PROJECT_NAME");
    if !unset.is_empty() {
        let message = format!("no value for {}: each counts as empty", unset.join(", "));
        let help = "set it in the environment or in `.env` beside the file".to_owned();
        loader.slips.add(Severity::Warning, &source, &whole.span, message, Some(help));
    }
    let folder_name = files.absolute(folder).file_name().map(|name| name.to_string_lossy().into_owned());
    let name = name.or(folder_name).unwrap_or_else(|| "project".to_owned());
    project::read(&whole, &source, files, slips, &profiles, name)
}
