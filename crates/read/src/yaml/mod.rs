//! YAML with the place of every value, read by the rules Kubernetes and Compose use.

mod de;
mod node;
mod parse;
mod scalar;

pub use de::{RAW, from_node};
pub use node::{Mark, Node, Value};
pub use parse::parse;
pub use scalar::{Scalar, resolve};
