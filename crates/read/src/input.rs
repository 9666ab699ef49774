//! From a file name or standard input to a scene: inputs are recognised by content.

use std::path::PathBuf;

use mivask_core::scene::Scene;

pub use crate::files::{Disk, FileReader, InputError, Origin};

use crate::build_file;
use crate::described::Described;
use crate::diagnostic::{Diagnostics, Severity};
use crate::documents::{
    Adding, add_commands, add_nodes, folder_of_origin, is_scene, manifests_in, merge, open,
};
use crate::scene_file;
use crate::skipped::Skipped;
use crate::text::SourceText;
use crate::yaml::parse;

/// Reads the facts of a scene file, a manifest, a folder of manifests or standard input.
///
/// Mistakes in what was read are in `diagnostics`; the scene is usable only where none is an error.
///
/// # Errors
/// The input cannot be read at all.
pub fn read_input(
    origin: &Origin,
    files: &dyn FileReader,
    diagnostics: &mut Diagnostics,
) -> Result<Scene, InputError> {
    read_described(origin, files, diagnostics).map(|described| described.scene)
}

/// The same with what a scene file demands.
///
/// # Errors
/// The input cannot be read at all.
pub fn read_described(
    origin: &Origin,
    files: &dyn FileReader,
    diagnostics: &mut Diagnostics,
) -> Result<Described, InputError> {
    let mut described = Described::default();
    let parts = parts_of(origin, files)?;
    read_parts(&parts, files, &mut described, diagnostics, &mut |_| {})?;
    Ok(described)
}

/// The files that an input means: itself, or those of a folder.
pub(crate) fn parts_of(origin: &Origin, files: &dyn FileReader) -> Result<Vec<Origin>, InputError> {
    let Origin::File(path) = origin else { return Ok(vec![origin.clone()]) };
    let inside = manifests_in(path, files)?;
    Ok(inside.map_or_else(|| vec![origin.clone()], |paths| paths.into_iter().map(Origin::File).collect()))
}

/// Reads every document of `parts` into `described`; `after` is called behind each, and may take workloads out.
pub(crate) fn read_parts(
    parts: &[Origin],
    files: &dyn FileReader,
    described: &mut Described,
    diagnostics: &mut Diagnostics,
    after: &mut dyn FnMut(&mut Scene),
) -> Result<(), InputError> {
    if let [Origin::File(path)] = parts
        && build_file::is_one(path)
    {
        let name = path.display().to_string();
        let bytes = files.read(path).map_err(|error| InputError::Io { name, error })?;
        build_file::add(path, &bytes, &mut described.scene, files, diagnostics);
        return Ok(());
    }
    let mut skipped = Skipped::default();
    let mut first: Option<SourceText> = None;
    let mut found = 0;
    let mut runs = false;
    for origin in parts {
        let mut stream = open(origin, files)?;
        while let Some(source) = stream.next()? {
            let mut adding =
                Adding { scene: &mut described.scene, skipped, files, folder: folder_of_origin(origin) };
            let commands = add_commands(&source, &mut adding, diagnostics);
            skipped = adding.skipped;
            let documents = if commands { Vec::new() } else { parse(&source, diagnostics) };
            if let ([only], 0, [origin]) = (documents.as_slice(), found, parts)
                && is_scene(only)
            {
                *described =
                    scene_file::described(only, &source, origin, files, diagnostics).unwrap_or_default();
                let scene = &mut described.scene;
                let mut adding = Adding { scene, skipped, files, folder: folder_of_origin(origin) };
                while let Some(more) = stream.next()? {
                    add_nodes(&parse(&more, diagnostics), &more, &mut adding, diagnostics);
                }
                return Ok(());
            }
            found += documents.len() + usize::from(commands);
            let scene = &mut described.scene;
            let mut adding = Adding { scene, skipped, files, folder: folder_of_origin(origin) };
            add_nodes(&documents, &source, &mut adding, diagnostics);
            skipped = adding.skipped;
            runs |= !scene.workloads.is_empty();
            after(scene);
            first.get_or_insert(source);
        }
    }
    skipped.report(diagnostics);
    let Some(source) = first else { return Ok(()) };
    if diagnostics.has_errors() {
        return Ok(());
    }
    if found == 0 {
        let help =
            "give a Kubernetes manifest, a Compose file, an OCI configuration or a scene file".to_owned();
        diagnostics.add(Severity::Error, &source, &(0..0), "there is nothing in it", Some(help));
    } else if !runs {
        diagnostics.add(Severity::Error, &source, &(0..0), "nothing in it runs a container", None);
    }
    Ok(())
}

/// Reads several Compose files as one project, later ones merged on top.
///
/// # Errors
/// One of them cannot be read at all.
pub fn read_merged(
    paths: &[PathBuf],
    files: &dyn FileReader,
    diagnostics: &mut Diagnostics,
) -> Result<Scene, InputError> {
    let mut scene = Scene::default();
    merge(paths, files, &mut scene, diagnostics)?;
    Ok(scene)
}
