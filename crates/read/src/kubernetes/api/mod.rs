//! Those of the Kubernetes API's types that are read here, each with the fields that decide about files.
//!
//! What the others are called and of which type they are is in the field table ([`crate::fields`]).

mod claim;
mod meta;
mod storage;
mod types;
mod volumes;

use serde::de::DeserializeOwned;

pub(super) use claim::*;
pub(super) use meta::*;
pub(super) use storage::*;
pub(super) use types::*;
pub(super) use volumes::*;

use super::Origin;
use super::misplaced::misplaced;
use crate::diagnostic::Diagnostics;
use crate::fields::{self, KUBERNETES};

/// Reads an object of `kind`: unknown keys become warnings, a value of a wrong type an error and `None`.
pub(super) fn read<T: DeserializeOwned>(
    kind: &str,
    origin: &Origin<'_>,
    diagnostics: &mut Diagnostics,
) -> Option<T> {
    fields::read(&KUBERNETES, kind, (origin.node, origin.source), misplaced, diagnostics)
}
