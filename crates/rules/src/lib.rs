//! What the kernel does when a process touches a file, and nothing else: the crate for whoever audits the rules.
//!
//! A [`view::View`] is one process before its mounts; it is all that a decision may look at. [`walk`] resolves a
//! path over those mounts, [`decide::decide`] makes the kernel's checks in the kernel's order, one file a system
//! call, and [`imprint`] says what a new inode looks like. Functions are named after the kernel's own, or cite them.
//!
//! A decision is watched by a [`witness::Witness`]: by no one, and then nothing is allocated, or by an
//! [`explore::Explorer`], which records each check and tries every possibility of a fact that is missing. Out of
//! these, [`settle::settle`] makes one outcome. A missing fact is never guessed.

#![forbid(unsafe_code)]

mod asked;
mod asked_by_name;
pub mod confined;
pub mod decide;
pub mod explore;
mod fs_credentials;
pub mod imprint;
mod label;
pub mod lookup;
mod permission;
pub mod profile;
pub mod settle;
pub mod trace;
pub mod usual;
mod usual_place;
pub mod usually;
pub mod view;
pub mod walk;
pub mod witness;
