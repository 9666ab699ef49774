//! Predictions beside the running kernel.
//!
//! Where the tests may not make namespaces or take on identities, each row says `skipped` and why; it
//! then holds the prediction against the written expectation only.

mod admits;
mod aftermath;
mod ambient;
mod checks;
mod demo;
mod expectations;
mod handoff;
mod missing;
mod modes;
mod pods;
mod program;
mod properties;
mod questions;
mod random;
mod remedies;
mod support;
mod table;
