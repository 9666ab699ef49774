//! Values that mean what is written, whatever YAML makes of it.

use std::fmt;

use mivask_core::ids::DiskOwner;
use mivask_core::mode::Mode;
use mivask_core::tree::Device;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Deserializer};

use super::RAW;

/// A single value taken as it is written: `0750`, `"0750"` and `750` stay apart.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct RawText(pub String);

impl RawText {
    /// The value as an octal mode.
    #[must_use]
    pub fn mode(&self) -> Option<Mode> {
        self.0.parse().ok()
    }

    /// The value as `UID:GID`, both decimal, as they are stored.
    #[must_use]
    pub fn disk_owner(&self) -> Option<DiskOwner> {
        let (uid, gid) = self.0.split_once(':')?;
        Some(DiskOwner::new(uid.parse().ok()?, gid.parse().ok()?))
    }

    /// The value as `MAJOR:MINOR`, both decimal.
    #[must_use]
    pub fn device(&self) -> Option<Device> {
        let (major, minor) = self.0.split_once(':')?;
        Some(Device { major: major.parse().ok()?, minor: minor.parse().ok()? })
    }
}

impl<'de> Deserialize<'de> for RawText {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl serde::de::Visitor<'_> for Visitor {
            type Value = RawText;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a single value")
            }
            fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<RawText, E> {
                Ok(RawText(text.to_owned()))
            }
        }
        deserializer.deserialize_newtype_struct(RAW, Visitor)
    }
}

impl JsonSchema for RawText {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "RawText".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": ["string", "integer"], "description": "A value taken as it is written." })
    }
}
