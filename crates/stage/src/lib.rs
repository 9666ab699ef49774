//! What happens before a process starts: descriptions become actors before their mounts.
//!
//! A [`scene::Scene`] holds what was known of workloads, images, volumes and the host. [`prepare::stage`] does what
//! kubelets, container runtimes and image builds do: it finds who each container runs as ([`identity`]), prepares its
//! volumes, makes missing mount points and mounts everything in order. What comes out is a [`stage::Stage`].
//!
//! What differs between runtimes is a table of switches for each ([`runtime`]).

#![forbid(unsafe_code)]

pub mod actor_names;
mod builder;
pub mod cluster;
pub mod identity;
pub mod namespace;
pub mod need;
pub mod prepare;
pub mod recipe;
pub mod runtime;
pub mod scene;
pub mod sharing;
pub mod stage;
