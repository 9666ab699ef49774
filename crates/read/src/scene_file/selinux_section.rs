//! What a scene says of SELinux on its host.

use std::collections::BTreeMap;
use std::fmt;

use schemars::JsonSchema;
use serde::Deserialize;
use serde::de::value::MapAccessDeserializer;
use serde::de::{Deserializer, Error, MapAccess, Visitor};

/// What SELinux does on the host: one word, or the policy that decides.
#[derive(Debug, JsonSchema)]
#[schemars(untagged)]
pub enum SelinuxSection {
    /// No more than that.
    Mode(SelinuxWord),
    /// Its policy.
    Policy(PolicySection),
}

impl<'de> Deserialize<'de> for SelinuxSection {
    /// By hand, since a derived choice would hide which key is mistaken.
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Told;

        impl<'de> Visitor<'de> for Told {
            type Value = SelinuxSection;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(
                    "`live`, `disabled`, `permissive`, `enforcing`, or a `policy:` with what is set beside it",
                )
            }

            fn visit_str<E: Error>(self, text: &str) -> Result<SelinuxSection, E> {
                match text {
                    "live" => Ok(SelinuxSection::Mode(SelinuxWord::Live)),
                    "disabled" => Ok(SelinuxSection::Mode(SelinuxWord::Disabled)),
                    "permissive" => Ok(SelinuxSection::Mode(SelinuxWord::Permissive)),
                    "enforcing" => Ok(SelinuxSection::Mode(SelinuxWord::Enforcing)),
                    _ => Err(E::unknown_variant(text, &["live", "disabled", "permissive", "enforcing"])),
                }
            }

            fn visit_map<A: MapAccess<'de>>(self, map: A) -> Result<SelinuxSection, A::Error> {
                Deserialize::deserialize(MapAccessDeserializer::new(map)).map(SelinuxSection::Policy)
            }
        }

        deserializer.deserialize_any(Told)
    }
}

/// Whether SELinux decides.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SelinuxWord {
    /// As on this machine, with its policy and booleans.
    Live,
    /// It is not there.
    Disabled,
    /// It logs what it would refuse, and lets it happen.
    Permissive,
    /// It refuses what the policy does not allow.
    Enforcing,
}

/// The policy of a host.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct PolicySection {
    /// The binary policy: a copy of `/sys/fs/selinux/policy`, or of the newest `/etc/selinux/*/policy/policy.*`.
    pub policy: String,
    /// Whether it refuses what it does not allow; `false` where it only logs that. True where left out.
    pub enforcing: Option<bool>,
    /// Booleans that are not as the policy has them, such as `virt_use_nfs: true`.
    #[serde(default)]
    pub booleans: BTreeMap<String, bool>,
}
