//! Images that a stand-in has: made of a few members, with real digests.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::collections::BTreeMap;
use std::io::Write;

use serde_json::{Value, json};
use sha2::{Digest, Sha256};

use super::{Answer, Request};

/// One member of a layer: path, owner, group, mode, content; a directory where the path ends with a slash.
pub(crate) type Member<'a> = (&'a str, u64, u64, u32, &'a str);

/// The layers of the image that most tests have: `gauge` is 7101:7200, and in 7300.
pub(crate) const GAUGE: [&[Member<'_>]; 2] = [
    &[
        ("etc/", 0, 0, 0o755, ""),
        ("etc/passwd", 0, 0, 0o644, "root:$6$hush:0:0::/:/bin/sh\ngauge:x:7101:7200::/srv:/bin/sh\n"),
        ("etc/group", 0, 0, 0o644, "root:x:0:\ntides:x:7200:\npress:x:7300:gauge\n"),
        ("etc/gauge.conf", 0, 7200, 0o640, "depth = 3\n"),
        ("srv/", 7101, 7200, 0o750, ""),
        ("srv/old", 7101, 7200, 0o600, ""),
    ],
    &[("srv/.wh.old", 0, 0, 0o644, ""), ("srv/new", 7101, 7300, 0o640, "")],
];

/// `sha256:` and the digest.
pub(crate) fn digest(bytes: &[u8]) -> String {
    let hash = Sha256::digest(bytes);
    format!("sha256:{}", hash.iter().map(|byte| format!("{byte:02x}")).collect::<String>())
}

/// Blobs by digest, and manifests by what they are asked for.
#[derive(Clone, Default)]
pub(crate) struct Images {
    pub(crate) blobs: BTreeMap<String, Vec<u8>>,
    pub(crate) manifests: BTreeMap<String, Vec<u8>>,
}

pub(crate) const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";

impl Images {
    /// One image, called `3`.
    pub(crate) fn gauge() -> Self {
        let mut images = Self::default();
        images.add("3", &GAUGE, &json!({ "User": "gauge", "WorkingDir": "/srv" }));
        images
    }

    fn blob(&mut self, bytes: Vec<u8>, media: &str) -> Value {
        let told = json!({ "mediaType": media, "digest": digest(&bytes), "size": bytes.len() });
        self.blobs.insert(digest(&bytes), bytes);
        told
    }

    /// Adds an image, and gives its descriptor.
    pub(crate) fn add(&mut self, tag: &str, layers: &[&[Member<'_>]], config: &Value) -> Value {
        let raw: Vec<String> = layers.iter().map(|members| digest(&archive(members))).collect();
        let root = json!({ "type": "layers", "diff_ids": raw });
        let config = json!({ "architecture": "amd64", "os": "linux", "config": config, "rootfs": root });
        let config = self.blob(config.to_string().into_bytes(), "application/vnd.oci.image.config.v1+json");
        let layers: Vec<Value> = layers
            .iter()
            .map(|members| self.blob(packed(members), "application/vnd.oci.image.layer.v1.tar+gzip"))
            .collect();
        let manifest =
            json!({ "schemaVersion": 2, "mediaType": MANIFEST, "config": config, "layers": layers });
        self.manifest(tag, manifest.to_string().into_bytes())
    }

    /// Adds a manifest, and gives its descriptor.
    pub(crate) fn manifest(&mut self, tag: &str, bytes: Vec<u8>) -> Value {
        let told = json!({ "mediaType": MANIFEST, "digest": digest(&bytes), "size": bytes.len() });
        self.manifests.insert(digest(&bytes), bytes.clone());
        self.manifests.insert(tag.to_owned(), bytes);
        told
    }

    /// The files of an OCI layout that has the image called `3` as `name`.
    pub(crate) fn layout(&self, name: &str) -> Vec<(String, Vec<u8>)> {
        let manifest = &self.manifests["3"];
        let index = json!({ "schemaVersion": 2, "manifests": [{
            "mediaType": MANIFEST, "digest": digest(manifest), "size": manifest.len(),
            "annotations": { "org.opencontainers.image.ref.name": name },
        }] });
        let blobs = self.blobs.values().chain([manifest]);
        let path = |bytes: &[u8]| format!("blobs/sha256/{}", digest(bytes).trim_start_matches("sha256:"));
        let mut files: Vec<(String, Vec<u8>)> = blobs.map(|bytes| (path(bytes), bytes.clone())).collect();
        files.push(("oci-layout".to_owned(), br#"{"imageLayoutVersion": "1.0.0"}"#.to_vec()));
        files.push(("index.json".to_owned(), index.to_string().into_bytes()));
        files
    }

    /// Answers as a registry does.
    pub(crate) fn answer(&self, request: &Request) -> Answer {
        let last = request.path.rsplit('/').next().unwrap_or_default();
        let found = if request.path.contains("/manifests/") {
            self.manifests
                .get(last)
                .map(|bytes| Answer::new(200, bytes.clone()).with("docker-content-digest", &digest(bytes)))
        } else {
            self.blobs.get(last).map(|bytes| Answer::new(200, bytes.clone()))
        };
        found.unwrap_or_else(|| Answer::new(404, "{}"))
    }
}

/// A layer, packed.
fn packed(members: &[Member<'_>]) -> Vec<u8> {
    let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    out.write_all(&archive(members)).unwrap();
    out.finish().unwrap()
}

fn archive(members: &[Member<'_>]) -> Vec<u8> {
    let mut builder = tar::Builder::new(Vec::new());
    for (path, uid, gid, mode, content) in members {
        let mut header = tar::Header::new_ustar();
        let folder = path.ends_with('/');
        header.set_entry_type(if folder { tar::EntryType::Directory } else { tar::EntryType::Regular });
        header.set_uid(*uid);
        header.set_gid(*gid);
        header.set_mode(*mode);
        header.set_size(content.len() as u64);
        builder.append_data(&mut header, path, content.as_bytes()).unwrap();
    }
    builder.into_inner().unwrap()
}
