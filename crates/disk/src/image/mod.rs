//! The layers of an image, put on top of each other: an OCI layout (a folder or an archive of one), or the archive
//! an engine saves.
//!
//! An archive is read once from front to back, whatever the order of what is in it: each layer becomes a list of its
//! members without their content, each small text is kept, and only at the end is it known which are wanted.

mod document;
mod index;
mod kept;
mod layer;
mod names;
mod remote;

use std::collections::BTreeMap;
use std::fs::File;
use std::path::Path;
use std::sync::Arc;

use mivask_model::fact::Provenance;

use crate::archive::{Members, Part, Plain, Stream, tar_error};
use crate::error::DiskError;
use crate::gathered::{AccountFiles, Gathered};
use crate::grow::Grower;
use index::Chosen;
use layer::Blob;

pub use document::Digest;
pub use layer::Layer;
pub use names::names;
pub use remote::{Part as RemotePart, Remote, remote};

/// Which image of several is meant.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Choice {
    /// Its name.
    pub name: Option<String>,
    /// Whether a lone image of another name will do.
    pub name_is_a_hint: bool,
    /// `OS/ARCHITECTURE` or `OS/ARCHITECTURE/VARIANT`; this machine's where left out.
    pub platform: Option<String>,
}

impl Choice {
    /// The wanted system, architecture and variant, in the words of the OCI image specification.
    #[must_use]
    pub fn wanted(&self) -> (&str, &str, Option<&str>) {
        match &self.platform {
            Some(platform) => {
                let mut parts = platform.split('/');
                let os = parts.next().unwrap_or_default();
                let arch = parts.next().unwrap_or_default();
                (os, arch, parts.next())
            }
            None => {
                let arch = match std::env::consts::ARCH {
                    "x86_64" => "amd64",
                    "aarch64" => "arm64",
                    "x86" => "386",
                    "powerpc64" => "ppc64le",
                    other => other,
                };
                ("linux", arch, None)
            }
        }
    }
}

/// Whether a folder is an OCI layout.
pub(crate) fn is_layout(folder: &Path) -> bool {
    folder.join("oci-layout").is_file() && folder.join("index.json").is_file()
}

/// Reads an OCI layout.
pub(crate) fn gather_layout(folder: &Path, choice: &Choice, sizes: bool) -> Result<Gathered, DiskError> {
    let name = folder.display().to_string();
    let wrong = |what: String| DiskError::whole(&name, what);
    let mut text = |blob: &str| {
        let path = folder.join(blob);
        std::fs::read(&path).map_err(|error| format!("{} cannot be read: {error}", path.display()))
    };
    let index = text("index.json").map_err(wrong)?;
    let chosen = index::layout(&index, choice, &mut text).map_err(wrong)?;
    let config = text(&chosen.config).map_err(wrong)?;
    let mut growing = Growing::new(&name, sizes);
    for blob in &chosen.layers {
        let path = folder.join(blob);
        let shown = path.display().to_string();
        let file = File::open(&path).map_err(|error| DiskError::io(&shown, &error))?;
        let mut plain = Plain::new(file);
        let mut part = Part::new(&mut plain, u64::MAX);
        match Blob::read(&shown, &mut part)? {
            Blob::Layer(layer) => growing.add(layer)?,
            Blob::Text(_) | Blob::Other => return Err(DiskError::whole(&shown, "this is not a layer")),
        }
    }
    growing.finish(&config)
}

/// Looks whether an archive holds an image: the first member of a tar of a file system never is called so.
pub(crate) fn is_image_member(path: &[u8]) -> bool {
    let path = path.strip_prefix(b"./").unwrap_or(path);
    matches!(path, b"manifest.json" | b"oci-layout" | b"index.json" | b"repositories" | b"blobs" | b"blobs/")
        || path.starts_with(b"blobs/")
        || is_layer_member(path)
}

/// `<64 hexadecimal digits>/...` or `<64 hexadecimal digits>.json`, as engines name what they save.
fn is_layer_member(path: &[u8]) -> bool {
    let Some((id, rest)) = path.split_at_checked(64) else { return false };
    let hexadecimal = id.iter().all(u8::is_ascii_hexdigit);
    hexadecimal && (rest.starts_with(b"/") || matches!(rest, b".json" | b".tar"))
}

/// Reads an archive that holds an image.
pub(crate) fn gather_archive(
    name: &str,
    stream: &mut dyn Stream,
    choice: &Choice,
    sizes: bool,
) -> Result<Gathered, DiskError> {
    let mut blobs = Blobs::read(name, stream)?;
    let wrong = |what: String| DiskError::whole(name, what);
    let chosen = blobs.choose(choice).map_err(wrong)?;
    let config = blobs.text(&chosen.config).map_err(wrong)?;
    let mut growing = Growing::new(name, sizes);
    for layer in &chosen.layers {
        if let Some(error) = blobs.broken.remove(&blobs.name(layer)) {
            return Err(error);
        }
        growing.add(blobs.layer(layer).map_err(wrong)?)?;
    }
    growing.finish(&config)
}

/// Everything of an archive, by name.
#[derive(Default)]
struct Blobs {
    texts: BTreeMap<String, Vec<u8>>,
    layers: BTreeMap<String, Layer>,
    /// What is wrong with others: only an image that needs one is spoilt by it.
    broken: BTreeMap<String, DiskError>,
    /// Names that are links to others, as engines save a layer that occurs twice.
    links: BTreeMap<String, String>,
}

impl Blobs {
    fn read(name: &str, stream: &mut dyn Stream) -> Result<Self, DiskError> {
        let mut blobs = Self::default();
        let mut members = Members::new(stream);
        loop {
            let next = members.next(&mut |member, part| {
                if part.left > 0 {
                    let inner = String::from_utf8_lossy(&member.path).into_owned();
                    match Blob::read(&format!("{name} ({inner})"), part) {
                        Ok(blob) => blobs.keep(&inner, blob),
                        Err(error) => drop(blobs.broken.insert(plain(&member.path), error)),
                    }
                }
                Ok(())
            });
            let member = next.map_err(|error| tar_error(name, error))?;
            let Some(member) = member else { return Ok(blobs) };
            if let Some(target) = member.leads_to() {
                blobs.links.insert(plain(&member.path), plain(&target));
            }
        }
    }

    fn keep(&mut self, inner: &str, blob: Blob) {
        let inner = plain(inner.as_bytes());
        match blob {
            Blob::Layer(layer) => drop(self.layers.insert(inner, layer)),
            Blob::Text(text) => drop(self.texts.insert(inner, text)),
            Blob::Other => {}
        }
    }

    fn choose(&mut self, choice: &Choice) -> Result<Chosen, String> {
        if let Some(manifest) = self.texts.get("manifest.json") {
            return index::saved(manifest, choice);
        }
        let Some(index) = self.texts.get("index.json").cloned() else {
            return Err("it holds neither a manifest.json nor an index.json".to_owned());
        };
        index::layout(&index, choice, &mut |blob| self.text(blob))
    }

    fn text(&self, blob: &str) -> Result<Vec<u8>, String> {
        let name = self.name(blob);
        self.texts.get(&name).cloned().ok_or_else(|| format!("{blob} is missing in it"))
    }

    fn layer(&mut self, blob: &str) -> Result<Layer, String> {
        let name = self.name(blob);
        // A layer may stand twice in one image.
        self.layers.get(&name).cloned().ok_or_else(|| format!("the layer {blob} is missing in it"))
    }

    /// What a name leads to.
    fn name(&self, blob: &str) -> String {
        let blob = plain(blob.as_bytes());
        self.links.get(&blob).cloned().unwrap_or(blob)
    }
}

fn plain(path: &[u8]) -> String {
    let text = String::from_utf8_lossy(path);
    let mut parts: Vec<&str> = Vec::new();
    for part in text.split('/').filter(|part| !part.is_empty() && *part != ".") {
        if part == ".." {
            parts.pop();
        } else {
            parts.push(part);
        }
    }
    parts.join("/")
}

/// An image whose layers are being put on top of each other.
pub struct Growing<'n> {
    name: &'n str,
    grower: Grower,
    accounts: AccountFiles,
}

impl<'n> Growing<'n> {
    /// Nothing yet of the image that answers call `name`.
    #[must_use]
    pub fn new(name: &'n str, sizes: bool) -> Self {
        let origin = Provenance::Source(Arc::from(name));
        Self { name, grower: Grower::new(origin, name, sizes), accounts: AccountFiles::default() }
    }

    /// Puts the next layer on top.
    ///
    /// # Errors
    /// A path in it cannot be one.
    pub fn add(&mut self, layer: Layer) -> Result<(), DiskError> {
        layer.apply(&mut self.grower, &mut self.accounts).map_err(|what| DiskError::whole(self.name, what))
    }

    /// The image, with what its configuration says.
    ///
    /// # Errors
    /// `config` is no image configuration.
    pub fn finish(self, config: &[u8]) -> Result<Gathered, DiskError> {
        let image = index::facts(config).map_err(|what| DiskError::whole(self.name, what))?;
        let (tree, holes) = self.grower.finish();
        let mut accounts = self.accounts;
        // A later layer may have taken them away.
        for (path, content) in
            [(&b"etc/passwd"[..], &mut accounts.passwd), (b"etc/group", &mut accounts.group)]
        {
            if tree.find(path).is_none() {
                *content = None;
            }
        }
        Ok(Gathered { accounts: Some(accounts), image: Some(image), ..Gathered::new(tree, holes) })
    }
}
