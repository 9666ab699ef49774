//! The built program on files in a temporary folder, as a user would run it.

mod acts;
mod builds;
mod confirm;
mod demo;
mod disks;
mod documents;
mod formats;
mod hostile;
mod questions;
mod scratch;
mod slips;
mod unknown;
