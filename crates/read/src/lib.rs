//! Readers: documents in, the facts of `mivask-core` out, each with the place it came from.
//!
//! Inputs are recognised by content ([`input`]). YAML keeps the place of every value ([`yaml`]);
//! Kubernetes objects and OCI configurations are held against tables of every field of their specification,
//! our scene file is typed
//! by [`scene_file::SceneFile`], from which its JSON Schema is made. A reader never invents a fact:
//! what is not there stays unknown. Mistakes are [`diagnostic::Diagnostic`]s that point into the text.

#![forbid(unsafe_code)]

pub mod accounts;
mod build_file;
mod command_line;
pub mod compose;
pub mod described;
pub mod diagnostic;
pub mod disk;
mod dockerfile;
mod documents;
pub mod expectations;
mod fields;
pub mod files;
pub mod help;
mod id_lines;
pub mod input;
pub mod kubernetes;
mod labels;
pub mod message;
pub mod nearest;
pub mod oci;
pub mod outline;
pub mod patch;
pub mod people;
pub mod policies;
pub mod process;
pub mod scene_file;
pub mod skipped;
mod stream;
pub mod text;
mod tmpfs;
pub mod yaml;
