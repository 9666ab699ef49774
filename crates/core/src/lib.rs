//! Who a containerised process is, and what it can do to files: the questions of Mivask.
//!
//! Facts go in, outcomes come out. There is no I/O, no clock, no environment and no thread here, so that the same
//! facts give the same answer anywhere. Reading descriptions and disks is `mivask-read`'s work, printing answers is
//! `mivask-show`'s.
//!
//! A question travels one way. A [`Scene`] holds what was given. [`prepare::stage`] applies what kubelet and runtime
//! do before a process starts, [`decide`] makes the kernel's checks in the kernel's order, and [`question`] puts the
//! pieces together into answers. A missing fact is never guessed: each possibility is tried, and the answer
//! says what it depends on.
//!
//! ```
//! use mivask_core::{Container, Outcome, Provenance, Scene, Workload, ask, parse_act, prepare};
//!
//! let from = || Provenance::rule("an example");
//! let mut scene = Scene::default();
//! let gauge = Container::plain("gauge", "7101:7200", from());
//! scene.workloads.push(Workload::plain("station", vec![gauge], from()).into());
//!
//! let stage = prepare::stage(&scene);
//! let answer = ask(&stage, &parse_act("gauge reads /etc/tide.conf")?)?;
//! // Nothing is known of the image's files: the answer lists each possibility.
//! assert_eq!(answer.outcome, Outcome::Depends);
//! assert!(answer.depends_on.iter().any(|one| one.end.effect().is_some()));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! The crates below are re-exported module by module: `mivask-model` (the nouns), `mivask-rules` (what the kernel
//! does) and `mivask-stage` (what happens before a process starts).

#![forbid(unsafe_code)]

pub mod carry;
pub mod change;
pub mod drift;
pub mod expect;
pub mod exposure;
pub mod finding;
pub mod handoff;
mod named;
pub mod names;
pub mod place;
pub mod policy;
pub mod question;
mod recursion;
pub mod rehearse;
pub mod remedy;
pub mod script;
pub mod verdicts;
mod width;

pub use mivask_model::{
    accounts, acl, act, caps, credentials, fact, glob, glyph, held, host_mounts, ids, labels, listed, mode,
    mount, mount_kind, observed, outcome, path, personality, picked, refusal, storage, tree, usual, xattr,
};
pub use mivask_rules::{confined, decide, explore, imprint, settle, trace, usually, view, walk, witness};
pub use mivask_stage::{
    actor_names, cluster, identity, namespace, need, prepare, recipe, runtime, scene, sharing, stage,
};

pub use mivask_model::act::{Act, parse_act};
pub use mivask_model::fact::{Fact, Provenance, Unknown};
pub use mivask_model::mode::{FileKind, Mode};
pub use mivask_model::outcome::{Effect, Errno, Imprint};
pub use mivask_model::tree::{Entry, Tree};
pub use mivask_model::unmodelled;
pub use mivask_rules::settle::{Dependence, Outcome};
pub use mivask_stage::scene::{Container, Image, Scene, Volume, VolumeFacts, VolumeMount, Workload};
pub use mivask_stage::stage::{Actor, Stage};
pub use question::{Answer, access, ask};
pub use remedy::remedies;

/// The first example of the README, run as a test.
#[cfg(doctest)]
#[doc = include_str!("../README.md")]
struct Readme;
