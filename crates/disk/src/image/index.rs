//! From an index to the one image that is meant.

use serde::Deserialize;

use super::Choice;
use super::document::{Configuration, Descriptor, Index, Manifest, Platform};

/// How deep indexes may name indexes.
const DEEPEST: usize = 4;
/// The annotation that names an image within a layout.
const NAME: &str = "org.opencontainers.image.ref.name";
/// The same with the name of the registry, as some engines write it.
const LONG_NAME: &str = "io.containerd.image.name";

/// The blobs of one image: its configuration, and its layers from the lowest.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct Chosen {
    pub config: String,
    pub layers: Vec<String>,
}

/// The name of the blob of `descriptor` within a layout.
pub(super) fn blob(descriptor: &Descriptor) -> String {
    format!("blobs/{}/{}", descriptor.digest.algorithm, descriptor.digest.encoded)
}

/// Finds the image in a layout; `text` gives the content of blobs.
pub(super) fn layout(
    index: &[u8],
    choice: &Choice,
    text: &mut dyn FnMut(&str) -> Result<Vec<u8>, String>,
) -> Result<Chosen, String> {
    let index: Index =
        serde_json::from_slice(index).map_err(|error| format!("index.json does not read: {error}"))?;
    let named = by_name(&index.manifests, choice)?;
    let manifest = manifest(named, choice, text, 0)?;
    let layers = manifest.layers.iter().map(blob).collect();
    Ok(Chosen { config: blob(&manifest.config), layers })
}

/// The names that a descriptor carries.
pub(super) fn names(descriptor: &Descriptor) -> Vec<String> {
    let given = descriptor.annotations.iter().flatten();
    let named = given.filter(|(key, _)| [NAME, LONG_NAME].contains(&key.as_str()));
    named.map(|(_, name)| name.clone()).collect()
}

/// Those of `descriptors` that carry the wanted name; all of them where no name is wanted.
fn by_name<'d>(descriptors: &'d [Descriptor], choice: &Choice) -> Result<Vec<&'d Descriptor>, String> {
    let Some(wanted) = &choice.name else { return several(descriptors) };
    let found: Vec<&Descriptor> =
        descriptors.iter().filter(|one| names(one).iter().any(|name| same_name(name, wanted))).collect();
    let known: Vec<String> = descriptors.iter().flat_map(names).collect();
    match (found.is_empty(), known.is_empty()) {
        (false, _) => Ok(found),
        // A layout without names is that of the one image.
        (true, true) => Ok(descriptors.iter().collect()),
        (true, false) if choice.name_is_a_hint && descriptors.len() == 1 => Ok(descriptors.iter().collect()),
        (true, false) => Err(format!("there is no image {wanted} in it, but {}", known.join(", "))),
    }
}

fn several(descriptors: &[Descriptor]) -> Result<Vec<&Descriptor>, String> {
    let mut known: Vec<String> = descriptors.iter().flat_map(|one| names(one).into_iter().take(1)).collect();
    known.sort();
    known.dedup();
    if known.len() > 1 {
        return Err(format!("it holds several images ({}): say which with --reference", known.join(", ")));
    }
    Ok(descriptors.iter().collect())
}

/// Whether an image in an archive is the one that a description names: a registry in front may be left out.
fn same_name(given: &str, wanted: &str) -> bool {
    let tail = |long: &str, short: &str| long.strip_suffix(short).is_some_and(|front| front.ends_with('/'));
    given == wanted
        || tail(given, wanted)
        || tail(wanted, given)
        || wanted.rsplit_once(':').is_some_and(|(_, tag)| tag == given)
}

fn manifest(
    descriptors: Vec<&Descriptor>,
    choice: &Choice,
    text: &mut dyn FnMut(&str) -> Result<Vec<u8>, String>,
    depth: usize,
) -> Result<Manifest, String> {
    let descriptor = by_platform(&descriptors, choice)?;
    let name = blob(descriptor);
    let bytes = text(&name)?;
    if !descriptor.is_index() {
        return serde_json::from_slice(&bytes).map_err(|error| format!("{name} is not a manifest: {error}"));
    }
    if depth == DEEPEST {
        return Err("its indexes name indexes without end".to_owned());
    }
    let index: Index =
        serde_json::from_slice(&bytes).map_err(|error| format!("{name} is not an index: {error}"))?;
    manifest(index.manifests.iter().collect(), choice, text, depth + 1)
}

/// The one for the wanted platform.
pub(super) fn by_platform<'d>(
    descriptors: &[&'d Descriptor],
    choice: &Choice,
) -> Result<&'d Descriptor, String> {
    // Attestations and the like are in indexes too, under the platform `unknown`.
    let known = |one: &&&Descriptor| one.platform.as_ref().is_none_or(|platform| platform.os != "unknown");
    let images: Vec<&&Descriptor> = descriptors.iter().filter(known).collect();
    if let ([only], None) = (images.as_slice(), &choice.platform) {
        return Ok(only);
    }
    let (os, arch, variant) = choice.wanted();
    let fits = |one: &&&&Descriptor| {
        one.platform.as_ref().is_some_and(|platform| {
            platform.os == os
                && platform.architecture == arch
                && variant.is_none_or(|variant| platform.variant.as_deref() == Some(variant))
        })
    };
    let platforms = || {
        let given = images.iter().filter_map(|one| one.platform.as_ref());
        let word = |one: &Platform| format!("{}/{}", one.os, one.architecture);
        let given: Vec<String> = given.map(word).collect();
        given.join(", ")
    };
    match images.iter().find(fits) {
        Some(found) => Ok(found),
        None if images.is_empty() => Err("it names no image".to_owned()),
        None => Err(format!(
            "it has no image for {os}/{arch}, but for {}: say which with --platform",
            platforms()
        )),
    }
}

/// One image of an engine's own archive.
#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Saved {
    config: String,
    #[serde(default)]
    repo_tags: Option<Vec<String>>,
    layers: Vec<String>,
}

fn all_saved(manifest: &[u8]) -> Result<Vec<Saved>, String> {
    serde_json::from_slice(manifest).map_err(|error| format!("manifest.json does not read: {error}"))
}

/// The names of the images in the `manifest.json` of an engine's archive.
pub(super) fn tags(manifest: &[u8]) -> Result<Vec<String>, String> {
    Ok(all_saved(manifest)?.into_iter().flat_map(|one| one.repo_tags.into_iter().flatten()).collect())
}

/// Finds the image in the `manifest.json` of an engine's archive.
pub(super) fn saved(manifest: &[u8], choice: &Choice) -> Result<Chosen, String> {
    let all = all_saved(manifest)?;
    let tags: Vec<String> = all.iter().flat_map(|one| one.repo_tags.iter().flatten().cloned()).collect();
    let found = match &choice.name {
        Some(wanted) => {
            let tagged = |one: &&Saved| one.repo_tags.iter().flatten().any(|tag| same_name(tag, wanted));
            // A lone image is the one meant where its name is only a hint, or where it has none.
            let lone = match all.as_slice() {
                [one] if choice.name_is_a_hint || tags.is_empty() => Some(one),
                _ => None,
            };
            all.iter().find(tagged).or(lone)
        }
        None if all.len() > 1 => {
            return Err(format!("it holds several images ({}): say which with --reference", tags.join(", ")));
        }
        None => all.first(),
    };
    match (found, &choice.name) {
        (Some(found), _) => Ok(Chosen { config: found.config.clone(), layers: found.layers.clone() }),
        (None, Some(wanted)) => Err(format!("there is no image {wanted} in it, but {}", tags.join(", "))),
        (None, None) => Err("it holds no image".to_owned()),
    }
}

/// What a configuration says about processes.
pub(super) fn facts(config: &[u8]) -> Result<crate::gathered::ImageFacts, String> {
    let config: Configuration = serde_json::from_slice(config)
        .map_err(|error| format!("the configuration of the image does not read: {error}"))?;
    let given = config.config.unwrap_or_default();
    let first = |words: Option<Vec<String>>| words.and_then(|words| words.into_iter().next());
    let text = |value: Option<String>| value.filter(|text| !text.is_empty());
    Ok(crate::gathered::ImageFacts {
        user: text(given.user),
        volumes: given.volumes.unwrap_or_default().into_keys().collect(),
        working_directory: text(given.working_dir),
        entrypoint: first(given.entrypoint),
        command: first(given.cmd),
        search: given
            .env
            .into_iter()
            .flatten()
            .rev()
            .find_map(|one| Some(one.strip_prefix("PATH=")?.to_owned())),
    })
}
