//! Trees as a scene names or lists them.

use std::fmt;

use schemars::JsonSchema;
use serde::Deserialize;
use serde::de::value::SeqAccessDeserializer;
use serde::de::{Deserializer, Error, SeqAccess, Visitor};

use crate::yaml::RawText;

/// Where on-disk facts come from: the path of a directory, a survey, an archive, the layers of an image or a listing,
/// recognised by what they are; or a list of inodes.
#[derive(Debug, JsonSchema)]
#[schemars(untagged)]
pub enum TreeSource {
    /// A path, relative to this file.
    Named(String),
    /// Inodes, listed here.
    Listed(Vec<TreeEntry>),
}

impl<'de> Deserialize<'de> for TreeSource {
    /// By hand, since a derived choice would hide which entry of the list is mistaken.
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Told;

        impl<'de> Visitor<'de> for Told {
            type Value = TreeSource;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("the path of a source, or a list of inodes")
            }

            fn visit_str<E: Error>(self, text: &str) -> Result<TreeSource, E> {
                Ok(TreeSource::Named(text.to_owned()))
            }

            fn visit_seq<A: SeqAccess<'de>>(self, list: A) -> Result<TreeSource, A::Error> {
                Deserialize::deserialize(SeqAccessDeserializer::new(list)).map(TreeSource::Listed)
            }
        }

        deserializer.deserialize_any(Told)
    }
}

/// One inode of an inline tree. A directory that is listed is known whole; one that is only named as a parent
/// is taken to be 0:0 0755 and may hold more.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct TreeEntry {
    /// Absolute path within the source.
    pub path: String,
    /// What it is; a file where left out.
    #[serde(default)]
    pub kind: KindWord,
    /// `UID:GID` as stored. Left out: unknown.
    pub owner: Option<RawText>,
    /// Permission bits, octal however written. Left out: unknown.
    pub mode: Option<RawText>,
    /// The access ACL in short text form, such as `user:7102:rw-,mask::r--`.
    pub acl: Option<String>,
    /// The default ACL of a directory.
    pub default_acl: Option<String>,
    /// Attributes.
    #[serde(default)]
    pub flags: Vec<FlagWord>,
    /// What a link points at.
    pub target: Option<String>,
    /// The path this is a further name (hard link) of.
    pub same_file_as: Option<String>,
    /// `MAJOR:MINOR` of a device.
    pub device: Option<RawText>,
    /// File capabilities: names, `=`, and flags of `eip`, such as `CHOWN,FOWNER=ep`.
    pub capabilities: Option<String>,
    /// Its SELinux label, such as `system_u:object_r:container_file_t:s0`. Left out: unknown.
    pub label: Option<String>,
    /// On an overlay, the layer it is in; `lower` where left out.
    pub layer: Option<LayerWord>,
    /// What running it meets: `program`, `data`, `empty`, or `#!/path/of/interpreter`.
    pub content: Option<String>,
}

/// What an inode is.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum KindWord {
    /// A regular file.
    #[default]
    File,
    /// A directory.
    Dir,
    /// A symbolic link.
    Link,
    /// A named pipe.
    Fifo,
    /// A Unix socket.
    Socket,
    /// A character device.
    Char,
    /// A block device.
    Block,
}

/// Where an entry of an overlay is.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum LayerWord {
    /// In a layer below, as everything in an image.
    Lower,
    /// In the writable layer alone.
    Upper,
    /// A directory that is in both.
    Both,
}

/// An attribute of an inode.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FlagWord {
    /// Nothing can be changed or removed.
    Immutable,
    /// Only writes at the end.
    AppendOnly,
}
