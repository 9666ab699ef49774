//! The built program on files in a temporary folder, as a user would run it.

mod acts;
mod builds;
mod changes;
mod confirm;
mod decode;
mod demo;
mod disks;
mod documents;
mod formats;
mod hostile;
mod house;
mod mistakes;
mod pasted;
mod questions;
mod remedy;
mod report;
mod scratch;
mod shares;
mod terminal;
mod transcripts;
mod unknown;
mod uphold;
