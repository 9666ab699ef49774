//! A change of a description written into the user's own file: comments and layout stay as they are.

pub mod build;
mod bundle;
mod compose;
mod document;
mod engine;
mod merge;
mod pod;
mod scene;

use mivask_core::change::{Change, Process};
use mivask_core::fact::Provenance;
use mivask_core::runtime::Flavour;
use mivask_core::scene::Workload;

use crate::command_line;
use document::Document;
pub use merge::{MergeError, merge_patch};

/// Why a change cannot be written into a description.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PatchError {
    /// There is no field for it.
    #[error("{0}")]
    NoField(String),
    /// The text does not have what the change is about.
    #[error("the file is not as it was when it was read")]
    Lost,
    /// What an engine printed of a container that is there.
    #[error("what an engine printed is not edited: make the container again with the option that says so")]
    Printed,
    /// The editor does not get along with the way the file is written.
    #[error("the file is written in a way that is not edited safely here: make that change by hand")]
    Layout,
    /// It is a change of files or accounts.
    #[error("it changes no description")]
    Elsewhere,
}

/// The file a change of `workload` is written into, as the user named it.
#[must_use]
pub fn file_of(workload: &Workload) -> Option<&str> {
    Some(document(&workload.containers.first()?.from)?.0)
}

/// The file and line of a fact of a description.
fn document(from: &Provenance) -> Option<(&str, usize)> {
    match from {
        Provenance::Document { file, line, .. } => Some((file, *line)),
        Provenance::Line { .. }
        | Provenance::Source(_)
        | Provenance::Rule(_)
        | Provenance::Assumption(_)
        | Provenance::Unknown(_)
        | Provenance::Act(_) => None,
    }
}

/// `text`, the file that `workload` was read from, with `change` written into it. `workload` is as it was read, or after
/// the changes that were written before.
///
/// # Errors
/// There is no field for the change, or the text has changed.
pub fn patched(text: &str, workload: &Workload, change: &Change) -> Result<String, PatchError> {
    let (name, what) = match change {
        Change::Process(name, what) => (Some(name.as_str()), what.clone()),
        Change::FilesystemGroup(step) => (None, Process::FilesystemGroup(*step)),
        Change::Joins(gid) => (None, Process::Joins(*gid)),
        Change::Files(_) | Change::Image(_) | Change::Accounts(..) | Change::Security(_) => {
            return Err(PatchError::Elsewhere);
        }
    };
    if workload.kind == command_line::INSPECTED {
        return Err(PatchError::Printed);
    }
    let meant = |container: &&mivask_core::scene::Container| match name {
        Some(name) => name.rsplit('/').next() == Some(container.name.as_str()),
        None => true,
    };
    let container = workload.containers.iter().find(meant).ok_or(PatchError::Lost)?;
    if let Some(written) = engine::written(text, (&workload.kind, container), &what) {
        return written;
    }
    if workload.flavour == Flavour::Bundle {
        return bundle::written(text, &what);
    }
    let Provenance::Document { line, column, .. } = &container.from else { return Err(PatchError::Lost) };
    let document = Document::open(text, (*line, *column))?;
    match workload.flavour {
        Flavour::Pod => pod::write(&document, workload, &what)?,
        Flavour::Compose => compose::write(&document, container, &what)?,
        Flavour::Scene => scene::write(&document, &what)?,
        // Written above.
        Flavour::Bundle => {}
    }
    document.text()
}

/// Options of a mount as fields: whether it is read-only; the others have none here.
fn read_only(options: &[String]) -> Result<bool, PatchError> {
    match options {
        [one] if one == "rw" => Ok(false),
        [one] if one == "ro" => Ok(true),
        _ => Err(PatchError::NoField(format!(
            "no field of the description sets {}: mount options belong to the volume (mountOptions, driver_opts)",
            options.join(",")
        ))),
    }
}

fn no_field(what: &str) -> PatchError {
    PatchError::NoField(what.to_owned())
}
