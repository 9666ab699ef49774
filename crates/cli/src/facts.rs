//! Facts from `--disk` and `--image`, added to a scene.

use std::collections::BTreeSet;
use std::io::Write;
use std::sync::Arc;

use mivask_core::listed::listed;
use mivask_core::recipe::Recipe;
use mivask_core::scene::{Scene, VolumeKind, Workload};
use mivask_core::tree::{Tree, TreeError};
use mivask_disk::gathered::Gathered;
use mivask_disk::image::Choice;
use mivask_disk::live::Options;
use mivask_read::disk;
use mivask_read::nearest::nearest;

use crate::end::{CommandError, Failure};
use crate::options::{Input, NamedSource};
use crate::sources::gather;
use crate::{policies, starter};

/// What is wrong with a `--disk` or an `--image`.
#[derive(Debug, thiserror::Error)]
enum FactsError {
    /// A source is named for something that nothing asks for.
    #[error("nothing here has the {what} {name}: {}", if known.is_empty() { "it has none at all".to_owned() } else { format!("it has {}", listed(known)) })]
    Unasked {
        /// A volume or an image.
        what: &'static str,
        /// Its name.
        name: String,
        /// Those there are.
        known: Vec<String>,
    },
    /// A part of the host that does not say where it is.
    #[error("a part of the host is named by its path from the root")]
    Relative {
        /// The whole option, as it is meant.
        meant: String,
    },
    /// A part of the host does not fit into the rest.
    #[error("{path} on the host: {error}")]
    Planted {
        /// Where it was to go.
        path: String,
        /// Why it cannot.
        error: TreeError,
    },
}

impl CommandError for FactsError {
    fn meant(&self) -> Option<&str> {
        match self {
            Self::Unasked { name, known, .. } => {
                // A claim from a template is called by the template, the pod and its number.
                let made = known
                    .iter()
                    .find(|known| known.strip_prefix(name).is_some_and(|rest| rest.starts_with('-')));
                made.map(String::as_str).or_else(|| nearest(name, known.iter().map(String::as_str)))
            }
            Self::Relative { meant } => Some(meant),
            Self::Planted { .. } => None,
        }
    }
}

/// The name of the host among disks.
const HOST: &str = "host";

/// The path on the host that a disk of this name is; `None` for a volume.
pub(crate) fn part_of_host(name: &str) -> Option<&str> {
    match name.strip_prefix(HOST)? {
        "" => Some("/"),
        path => path.strip_prefix(':'),
    }
}

/// Adds what `--disk` and `--image` name; `workloads` are those at hand, all of them if that is `Some`.
pub(crate) fn add(
    scene: &mut Scene,
    workloads: Option<&[Arc<Workload>]>,
    input: &Input,
    err: &mut dyn Write,
) -> Result<(), Failure> {
    scene.builder = input.facts.builder.or(scene.builder);
    starter::add(scene, &input.facts)?;
    policies::add(scene, &input.facts)?;
    starter::note(scene, workloads.unwrap_or_default(), &input.facts, err)?;
    for given in &input.facts.image {
        let bases: BTreeSet<String> = scene.builds.values().flat_map(Recipe::images).cloned().collect();
        known(&given.name, "image", workloads, &|workload, names| {
            images_of(workload, names);
            names.extend(bases.iter().cloned());
        })?;
        let choice = Choice { name: Some(given.name.clone()), name_is_a_hint: true, platform: None };
        let gathered = source(given, choice, err)?;
        let image = disk::image(&given.source.display().to_string(), gathered);
        scene.images.insert(given.name.clone(), image);
    }
    for given in &input.facts.disk {
        match given.name.strip_prefix(HOST) {
            Some("") => {
                let gathered = source(given, Choice::default(), err)?;
                let shown = given.source.display().to_string();
                if let Some((message, help)) = disk::part_of_host(&shown, gathered.top.as_deref()) {
                    writeln!(err, "warning: {}", mivask_show::safe(&message))?;
                    writeln!(err, "  help: {}", mivask_show::safe(&help))?;
                }
                scene.host.tree = Some(gathered.tree);
            }
            Some(path) if path.starts_with(":/") => {
                let part = source(given, Choice::default(), err)?.tree;
                let whole =
                    Tree::planted(scene.host.tree.as_deref(), &path.as_bytes()[1..], &part, "the host");
                let failed = |error| FactsError::Planted { path: path[1..].to_owned(), error };
                scene.host.tree = Some(Arc::new(whole.map_err(failed)?));
            }
            Some(path) if path.starts_with(":.") => {
                let here = std::env::current_dir().unwrap_or_default();
                let path = here.join(path[1..].trim_start_matches("./"));
                let meant = format!("--disk host:{}={}", path.display(), given.source.display());
                return Err(FactsError::Relative { meant }.into());
            }
            Some(_) | None => {
                let name = own_name(workloads, &given.name);
                known(name, "volume", workloads, &volumes_of)?;
                let tree = source(given, Choice::default(), err)?.tree;
                match scene.volumes.get_mut(name) {
                    Some(volume) => volume.tree = Some(tree),
                    None => {
                        let volume = disk::volume(&given.source.display().to_string(), tree);
                        scene.volumes.insert(name.to_owned(), volume);
                    }
                }
            }
        }
    }
    Ok(())
}

fn source(given: &NamedSource, choice: Choice, err: &mut dyn Write) -> Result<Gathered, Failure> {
    let gathered = gather(&given.source, &Options { choice, ..Options::default() })?;
    if let Some(message) = disk::holes(&given.source.display().to_string(), gathered.holes) {
        writeln!(err, "warning: {}", mivask_show::safe(&message))?;
    }
    Ok(gathered)
}

/// A name that nothing asks for is a typo.
fn known(
    name: &str,
    what: &'static str,
    workloads: Option<&[Arc<Workload>]>,
    names: &dyn Fn(&Workload, &mut BTreeSet<String>),
) -> Result<(), Failure> {
    let Some(workloads) = workloads else { return Ok(()) };
    let mut all = BTreeSet::new();
    workloads.iter().for_each(|workload| names(workload, &mut all));
    if all.contains(name) {
        return Ok(());
    }
    // A claim is listed once, without its namespace.
    let shown = |name: &String| what != "volume" || !name.contains('/');
    let known = all.into_iter().filter(shown).collect();
    Err(FactsError::Unasked { what, name: name.to_owned(), known }.into())
}

/// What the description calls the volume that its engine lists as `name`; the name itself where none is listed so.
pub(crate) fn own_name<'a>(workloads: Option<&'a [Arc<Workload>]>, name: &'a str) -> &'a str {
    let mut volumes = workloads.into_iter().flatten().flat_map(|workload| &workload.volumes);
    let listed = volumes.find(|volume| {
        volume.name.value != name
            && matches!(&volume.kind, VolumeKind::Named { listed, .. } if listed == name)
    });
    listed.map_or(name, |volume| volume.name.value.as_str())
}

fn images_of(workload: &Workload, names: &mut BTreeSet<String>) {
    names.extend(
        workload.containers.iter().filter_map(|container| Some(container.image.as_ref()?.value.clone())),
    );
}

fn volumes_of(workload: &Workload, names: &mut BTreeSet<String>) {
    for volume in &workload.volumes {
        let name = if let VolumeKind::Claim { claim: name, .. } | VolumeKind::Stored(name) = &volume.kind {
            name
        } else {
            &volume.name.value
        };
        if matches!(volume.kind, VolumeKind::Claim { .. }) {
            names.insert(format!("{}/{name}", workload.namespace));
        }
        names.insert(name.clone());
    }
}
