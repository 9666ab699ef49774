//! Where a fact was read.

use mivask_core::fact::Provenance;
use schemars::JsonSchema;
use serde::Serialize;

use crate::upheld::place;

/// A place in words, and in parts where it is one in a file.
#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Place")]
pub(super) struct PlaceJson {
    text: String,
    file: Option<String>,
    line: Option<usize>,
    column: Option<usize>,
}

impl PlaceJson {
    pub(super) fn new(from: &Provenance) -> Self {
        let at = place(from);
        Self {
            text: from.to_string(),
            file: at.as_ref().map(|at| at.file.to_owned()),
            line: at.as_ref().map(|at| at.line),
            column: at.as_ref().map(|at| at.column),
        }
    }
}
