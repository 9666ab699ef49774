//! The nouns of Mivask: what is known of processes, files and mounts, before any rule is applied.
//!
//! Ids that cannot be mixed up ([`ids`]), modes, ACLs and capabilities ([`mode`], [`acl`], [`caps`]), account
//! files ([`accounts`]), facts with the place they came from ([`fact`]), what is on a disk ([`tree`]), what is
//! mounted where and on which kind of file system ([`mount`], [`personality`]), who a process is for the kernel
//! ([`credentials`]), the acts it tries ([`act`]) and how they end ([`outcome`]).
//!
//! Nothing here decides anything: the kernel's checks are in `mivask-rules`.

#![forbid(unsafe_code)]

pub mod accounts;
pub mod acl;
pub mod act;
pub mod caps;
pub mod credentials;
pub mod devices;
pub mod fact;
pub mod glob;
pub mod glyph;
pub mod held;
pub mod host_mounts;
pub mod ids;
pub mod labels;
pub mod listed;
pub mod mode;
pub mod mount;
pub mod mount_kind;
pub mod observed;
pub mod outcome;
pub mod path;
pub mod personality;
pub mod picked;
pub mod refusal;
pub mod storage;
pub mod tree;
pub mod unmodelled;
pub mod usual;
pub mod xattr;
