//! On-disk facts from wherever they are to be had, as trees of `mivask-core`.
//!
//! A source is recognised by its content: a directory of this machine, a survey taken earlier, an archive, the
//! layers of an image, or a listing that someone pasted. Each gives a tree; what it cannot tell stays unknown or
//! is a named assumption.

mod archive;
#[cfg(feature = "parquet")]
mod columns;
pub mod dataset;
pub mod error;
pub mod export;
pub mod gathered;
mod grow;
pub mod image;
pub mod json;
mod listing;
pub mod live;
pub mod mounts;
pub mod place;
pub mod process;
pub mod program;
pub mod reference;
pub mod source;
pub mod survey;
mod unpack;
