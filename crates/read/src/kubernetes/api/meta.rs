//! What every object carries.

use serde::Deserialize;

/// `metadata`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct ObjectMeta {
    /// Its name.
    pub name: Option<String>,
    /// What a generated name begins with.
    pub generate_name: Option<String>,
    /// Its namespace.
    pub namespace: Option<String>,
}
