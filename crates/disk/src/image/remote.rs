//! An image that is elsewhere: what its manifest names, before any of it is fetched.

use serde_json::Value;

use super::Choice;
use super::document::{Descriptor, Digest, Index, Manifest};
use super::index::by_platform;

/// A blob that a manifest names.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Part {
    /// Its digest, which its bytes have to have.
    pub digest: Digest,
    /// How many bytes it has.
    pub size: u64,
}

/// What a manifest turned out to be.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Remote {
    /// The manifests of several platforms; this is the one of the wanted platform.
    Index(Digest),
    /// One image.
    Image {
        /// Its configuration.
        config: Part,
        /// Its layers, from the lowest.
        layers: Vec<Part>,
    },
}

/// Reads a manifest, told apart by content.
///
/// # Errors
/// It is none, one of an old form, one of something other than an image, or has nothing for the wanted platform.
pub fn remote(manifest: &[u8], choice: &Choice) -> Result<Remote, String> {
    let broken = |error: serde_json::Error| format!("its manifest does not read: {error}");
    // What stands in front of a registry answers with a page.
    let page = |_| {
        "what it gives as the manifest is no JSON: is this a registry, or a page to sign in on?".to_owned()
    };
    let value: Value = serde_json::from_slice(manifest).map_err(page)?;
    if value.get("manifests").is_some() {
        let index: Index = serde_json::from_value(value).map_err(broken)?;
        let all: Vec<&Descriptor> = index.manifests.iter().collect();
        return Ok(Remote::Index(by_platform(&all, choice)?.digest.clone()));
    }
    if value.get("fsLayers").is_some() {
        return Err(
            "its manifest is of the first form, which has no digests: push the image again".to_owned()
        );
    }
    let manifest: Manifest = serde_json::from_value(value).map_err(broken)?;
    let kind = &manifest.config.media_type;
    // Charts, signatures and other things are kept in registries as well.
    if !["application/vnd.oci.image.config.v1+json", "application/vnd.docker.container.image.v1+json"]
        .contains(&kind.as_str())
    {
        return Err(format!("it is no image but {}", kind.escape_debug()));
    }
    let part = |one: &Descriptor| Part { digest: one.digest.clone(), size: one.size };
    Ok(Remote::Image { config: part(&manifest.config), layers: manifest.layers.iter().map(part).collect() })
}
