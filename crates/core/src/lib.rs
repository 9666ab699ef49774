//! Who a containerised process is, and what it can do to files.
//!
//! This crate holds the rules of Mivask and nothing else: facts go in, outcomes come out. It does
//! no I/O, reads no clock and no environment, and has no thread of its own, so that the same facts
//! give the same answer anywhere. Reading descriptions and disks is `mivask-read`'s work, printing
//! answers is `mivask-show`'s.
//!
//! A question travels one way. A [`scene::Scene`] holds what was told. [`prepare::stage`] applies
//! what kubelet and runtime do before a process starts: who each actor is ([`identity`]), what is
//! mounted where ([`mount`]). [`walk`] resolves a path over those mounts, [`decide::decide`] makes
//! the kernel's checks in the kernel's order, [`imprint`] says what a new inode looks like, and
//! [`question`] puts the pieces together into answers. A fact that nobody told is never guessed:
//! [`explore`] tries each possibility and the answer says what it depends on.
//!
//! ```
//! use mivask_core::{act::parse_act, prepare, question, scene::Scene};
//!
//! let stage = prepare::stage(&Scene::default());
//! let act = parse_act("gauge writes /data/level.csv")?;
//! assert!(question::ask(&stage, &act).is_err(), "an empty scene has no actor of that name");
//! # Ok::<(), mivask_core::act::ActError>(())
//! ```

pub mod accounts;
pub mod storage;
pub mod settle;
pub mod rehearse;
pub mod refusal;
pub mod handoff;
pub mod glob;
pub mod credentials;
pub mod acl;
pub mod act;
mod acting;
mod builder;
pub mod caps;
pub mod carry;
pub mod cast;
pub mod change;
pub mod cluster;
pub mod decide;
pub mod expect;
pub mod explore;
pub mod exposure;
pub mod fact;
pub mod finding;
pub mod host_mounts;
pub mod identity;
pub mod ids;
pub mod imprint;
pub mod mode;
pub mod mount;
mod onlooker;
pub mod outcome;
mod path;
mod permission;
pub mod personality;
pub mod policy;
pub mod prepare;
pub mod question;
pub mod recipe;
pub mod remedy;
pub mod runtime;
pub mod scene;
pub mod stage;
pub mod trace;
pub mod tree;
pub mod view;
pub mod walk;
pub mod witness;
pub mod xattr;

/// The first example of the README, run as a test.
#[cfg(doctest)]
#[doc = include_str!("../README.md")]
struct Readme;
