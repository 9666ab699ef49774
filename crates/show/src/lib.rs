//! Answers as text and JSON. Nothing is decided here, and no file is known: everything is written
//! to a `&mut dyn Write` that somebody else opened.

pub mod json;
pub mod slips;
pub mod text;

mod safe;
mod style;
mod table;

pub use safe::safe;
