//! Tables of every field of the Kubernetes API and of OCI runtime configurations, and documents held against them.
//!
//! A document is checked against its table first, so that any misspelt key and any value of a wrong type is found,
//! also where nothing here reads it. Only then are structs filled, which hold what decides about files. The structs
//! of the whole specifications would find the same mistakes and take minutes to compile.

mod check;
mod table;

use std::sync::LazyLock;

use serde::de::DeserializeOwned;

pub(crate) use table::Table;

use crate::diagnostic::Diagnostics;
use crate::text::SourceText;
use crate::yaml::{Misplaced, Node, UnknownKeys, accepted, from_checked_node};

/// The Kubernetes API's objects that say something about pods and volumes.
pub(crate) static KUBERNETES: LazyLock<Table> =
    LazyLock::new(|| Table::parse(include_str!("kubernetes.txt")));

/// The OCI runtime specification's `config.json`.
pub(crate) static OCI: LazyLock<Table> = LazyLock::new(|| Table::parse(include_str!("oci.txt")));

/// Reads an object of `kind`: unknown keys become warnings, a value of a wrong type an error and `None`.
pub(crate) fn read<T: DeserializeOwned>(
    table: &Table,
    kind: &str,
    (node, source): (&Node, &SourceText),
    misplaced: Misplaced,
    diagnostics: &mut Diagnostics,
) -> Option<T> {
    let unknown = UnknownKeys::new(source, misplaced);
    let checked = check::object(table, kind, node, &unknown);
    unknown.into_slips(diagnostics);
    accepted(checked, node, source, diagnostics)?;
    from_checked_node(node, source, diagnostics)
}
