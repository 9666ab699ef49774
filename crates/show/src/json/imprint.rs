//! What an act leaves.

use mivask_core::outcome::Imprint;
use mivask_core::picked::is_picked;
use schemars::JsonSchema;
use serde::Serialize;

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Imprint")]
pub(super) struct ImprintJson<'a> {
    uid: Option<u32>,
    gid: Option<u32>,
    #[schemars(regex(pattern = "^[0-7]{4}$"))]
    mode: Option<String>,
    disk_uid: Option<u32>,
    disk_gid: Option<u32>,
    acl: Option<&'a str>,
    default_acl: Option<&'a str>,
    /// Its SELinux label; left out where the host's policy is not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    label: Option<&'a str>,
}

impl<'a> ImprintJson<'a> {
    pub(super) fn new(imprint: &'a Imprint) -> Self {
        Self {
            uid: imprint.uid.map(|uid| uid.raw()),
            gid: imprint.gid.map(|gid| gid.raw()),
            mode: imprint.mode.map(|mode| mode.to_string()),
            disk_uid: imprint.disk_uid.map(|uid| uid.raw()).filter(|id| !is_picked(*id)),
            disk_gid: imprint.disk_gid.map(|gid| gid.raw()).filter(|id| !is_picked(*id)),
            acl: imprint.acl.as_deref(),
            default_acl: imprint.default_acl.as_deref(),
            label: imprint.label.as_deref(),
        }
    }
}
