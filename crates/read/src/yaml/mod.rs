//! YAML with the place of every value, read by the rules Kubernetes and Compose use.

mod de;
mod node;
mod parse;
mod raw_text;
mod scalar;
mod syntax;
mod typed;

pub(crate) use de::{Misplaced, UnknownKeys, accepted, from_checked_node};
pub use de::{RAW, from_node};
pub use node::{Mark, Node, Value};
pub use parse::parse;
pub use raw_text::RawText;
pub use scalar::{Scalar, resolve};
pub(crate) use typed::TypeError;
