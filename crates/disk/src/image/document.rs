//! The documents of an image that are read (OCI image specification); unknown fields are passed over.

use std::collections::BTreeMap;
use std::fmt;

use serde::Deserialize;
use serde::de::IgnoredAny;

/// `image index`: the manifests of several images, or of one image for several platforms.
#[derive(Clone, Debug, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(super) struct Index {
    /// The version of the format; only that it is there is looked at.
    #[serde(rename = "schemaVersion")]
    _schema_version: IgnoredAny,
    /// What it names.
    pub manifests: Vec<Descriptor>,
}

/// `image manifest`: the blobs of one image.
#[derive(Clone, Debug, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(super) struct Manifest {
    /// The version of the format; only that it is there is looked at.
    #[serde(rename = "schemaVersion")]
    _schema_version: IgnoredAny,
    /// The configuration.
    pub config: Descriptor,
    /// The layers, from the lowest.
    pub layers: Vec<Descriptor>,
}

/// `descriptor`: a reference to a blob.
#[derive(Clone, Debug, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(super) struct Descriptor {
    /// What the blob is.
    pub media_type: String,
    /// Its name.
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
    /// For which platform it is.
    #[serde(default)]
    pub platform: Option<Platform>,
    /// Names and the like.
    #[serde(default)]
    pub annotations: Option<BTreeMap<String, String>>,
}

impl Descriptor {
    /// Whether it refers to an index, and not to the manifest of one image.
    pub(super) fn is_index(&self) -> bool {
        // Engines name their older form `...manifest.list.v2+json`.
        self.media_type == "application/vnd.oci.image.index.v1+json"
            || self.media_type.contains("manifest.list")
    }
}

/// `platform`: where an image runs.
#[derive(Clone, Debug, Deserialize)]
pub(super) struct Platform {
    /// Such as `amd64`.
    pub architecture: String,
    /// Such as `linux`.
    pub os: String,
    /// Such as `v8`.
    #[serde(default)]
    pub variant: Option<String>,
}

/// `algorithm:encoded`, in the characters that the specification allows: no part of it can lead out of a folder.
#[derive(Clone, PartialEq, Eq, Debug, Deserialize)]
#[serde(try_from = "String")]
pub struct Digest {
    /// Such as `sha256`.
    pub algorithm: String,
    /// The digest itself, mostly in hexadecimal digits.
    pub encoded: String,
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.algorithm, self.encoded)
    }
}

impl TryFrom<String> for Digest {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        let wrong = || format!("`{}` is not a digest", text.escape_debug());
        let (algorithm, encoded) = text.split_once(':').ok_or_else(wrong)?;
        let plain = |part: &str| {
            !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit())
        };
        let named = algorithm.split(['+', '.', '_', '-']).all(plain);
        let allowed = |byte: u8| byte.is_ascii_alphanumeric() || b"=_-".contains(&byte);
        let digits = |count: usize| {
            encoded.len() == count
                && encoded.bytes().all(|byte| byte.is_ascii_digit() || (b'a'..=b'f').contains(&byte))
        };
        let fits = match algorithm {
            "sha256" => digits(64),
            "sha384" => digits(96),
            "sha512" => digits(128),
            _ => !encoded.is_empty() && encoded.bytes().all(allowed),
        };
        if !(named && fits) {
            return Err(wrong());
        }
        Ok(Self { algorithm: algorithm.to_owned(), encoded: encoded.to_owned() })
    }
}

/// `image configuration`.
#[derive(Clone, Debug, Deserialize)]
pub(super) struct Configuration {
    /// The platform; only that it is there is looked at.
    #[serde(rename = "architecture")]
    _architecture: IgnoredAny,
    /// The same.
    #[serde(rename = "os")]
    _os: IgnoredAny,
    /// The layers once more; the manifest's are taken.
    #[serde(rename = "rootfs")]
    _root: IgnoredAny,
    /// How containers of it run.
    #[serde(default)]
    pub config: Option<Config>,
}

/// `config` of an image configuration.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct Config {
    /// `USER`.
    pub user: Option<String>,
    /// `WORKDIR`.
    pub working_dir: Option<String>,
    /// `ENTRYPOINT`.
    pub entrypoint: Option<Vec<String>>,
    /// `CMD`.
    pub cmd: Option<Vec<String>>,
    /// The environment, as `NAME=value`.
    pub env: Option<Vec<String>>,
    /// `VOLUME`s, as the keys.
    pub volumes: Option<BTreeMap<String, IgnoredAny>>,
}

#[cfg(test)]
mod tests {
    use super::Digest;

    #[test]
    fn digests_hold_nothing_but_their_characters() {
        let digest = |text: &str| Digest::try_from(text.to_owned());
        assert!(digest(&format!("sha256:{}", "0a".repeat(32))).is_ok());
        assert!(digest("blake3+b64u:Zm9v_-=").is_ok());
        for bad in [
            "",
            "sha256",
            "sha256:",
            "sha256:0a",
            "sha256:../../etc/passwd",
            "x:../y",
            "../x:y",
            "X:y",
            "x:a/b",
        ] {
            assert!(digest(bad).is_err(), "{bad}");
        }
    }
}
