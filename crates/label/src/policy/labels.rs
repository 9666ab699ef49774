//! What has a label without an attribute on disk: the first processes and objects, and whole file systems
//! (kernel: `policydb.c`, `ocontext_read`, `genfs_read`; `services.c`, `security_fs_use`, `__security_genfs_sid`).

use std::collections::BTreeMap;

use super::symbols::{self, ClassId, Symbols};
use crate::Context;
use crate::bytes::{Bytes, PolicyError};

/// How a file system's inodes get their labels (`fs_use_xattr` and its like).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Behavior {
    /// From the attribute `security.selinux` of each.
    Attribute,
    /// From a transition between who makes them and the file system (`fs_use_trans`: pipes, shm, devpts).
    Transition,
    /// From the task that makes them (`fs_use_task`).
    Task,
    /// From their path, by the policy's `genfscon`.
    Paths,
    /// None of these is said of the file system: `unlabeled_t`.
    None,
}

/// Where a file system's label comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Source {
    /// A line `fs_use_...`.
    Use,
    /// A line `genfscon`.
    Paths,
    /// Neither: the label of what has none.
    Unlabeled,
}

/// How one type of file systems is labelled.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileSystem {
    /// How its inodes are.
    pub behavior: Behavior,
    /// Its own label, on which `mount` and transitions are judged.
    pub label: Context,
    /// What says so.
    pub source: Source,
}

/// The path of a `genfscon`, the class it is for (`None`: any), and the label.
#[derive(Clone, Debug)]
pub(crate) struct ByPath {
    pub(crate) path: Box<[u8]>,
    pub(crate) class: Option<ClassId>,
    pub(crate) label: Context,
}

/// All labels of these kinds.
#[derive(Clone, Debug, Default)]
pub(crate) struct Labels {
    /// By the number of the initial SID.
    pub(crate) initial: BTreeMap<u32, Context>,
    pub(crate) uses: BTreeMap<Box<str>, (Behavior, Context)>,
    /// By file system; the longest path first, as the kernel keeps them.
    pub(crate) paths: BTreeMap<Box<str>, Vec<ByPath>>,
}

/// The kinds, in the order of the file; versions before 31 have the first seven (kernel: `OCON_*`).
const KINDS: [Kind; 9] = [
    Kind::Initial,
    Kind::Pair,
    Kind::Port,
    Kind::Pair,
    Kind::Node(8),
    Kind::Use,
    Kind::Node(32),
    Kind::PartitionKey,
    Kind::Endport,
];

#[derive(Clone, Copy)]
enum Kind {
    Initial,
    /// A name with two contexts: file systems of old, network interfaces.
    Pair,
    Port,
    /// A network address and mask of so many bytes in all.
    Node(usize),
    Use,
    PartitionKey,
    Endport,
}

/// Reads the labels of `kinds` kinds.
pub(crate) fn read(bytes: &mut Bytes<'_>, symbols: &Symbols, kinds: usize) -> Result<Labels, PolicyError> {
    let mut labels = Labels::default();
    for kind in KINDS.into_iter().take(kinds) {
        for _ in 0..bytes.count(16, "the initial labels")? {
            one(bytes, symbols, kind, &mut labels)?;
        }
    }
    for _ in 0..bytes.count(8, "the labels by path")? {
        by_path(bytes, symbols, &mut labels)?;
    }
    Ok(labels)
}

fn one(bytes: &mut Bytes<'_>, symbols: &Symbols, kind: Kind, labels: &mut Labels) -> Result<(), PolicyError> {
    const WHAT: &str = "an initial label";
    match kind {
        Kind::Initial => {
            let sid = bytes.u32(WHAT)?;
            let label = context(bytes, symbols)?;
            labels.initial.insert(sid, label);
        }
        Kind::Pair => {
            let length = bytes.u32(WHAT)?;
            bytes.take(usize::try_from(length).unwrap_or(usize::MAX), WHAT)?;
            context(bytes, symbols)?;
            context(bytes, symbols)?;
        }
        Kind::Port => skip(bytes, symbols, 12)?,
        Kind::Node(size) => skip(bytes, symbols, size)?,
        Kind::PartitionKey => skip(bytes, symbols, 16)?,
        Kind::Endport => {
            let length = usize::try_from(bytes.u32(WHAT)?).unwrap_or(usize::MAX);
            skip(bytes, symbols, length.saturating_add(4))?;
        }
        Kind::Use => {
            let behavior = match bytes.u32(WHAT)? {
                1 => Behavior::Attribute,
                2 => Behavior::Transition,
                3 => Behavior::Task,
                _ => return Err(bytes.bad("an `fs_use` that is none")),
            };
            let length = bytes.u32(WHAT)?;
            let name = bytes.name(length, WHAT)?;
            let label = context(bytes, symbols)?;
            // The kernel takes the first line of a name.
            labels.uses.entry(name).or_insert((behavior, label));
        }
    }
    Ok(())
}

fn skip(bytes: &mut Bytes<'_>, symbols: &Symbols, size: usize) -> Result<(), PolicyError> {
    bytes.take(size, "an initial label")?;
    context(bytes, symbols).map(drop)
}

fn by_path(bytes: &mut Bytes<'_>, symbols: &Symbols, labels: &mut Labels) -> Result<(), PolicyError> {
    const WHAT: &str = "a label by path";
    let length = bytes.u32(WHAT)?;
    let name = bytes.name(length, WHAT)?;
    let mut paths = Vec::new();
    for _ in 0..bytes.count(24, WHAT)? {
        let length = bytes.u32(WHAT)?;
        let path = bytes.take(usize::try_from(length).unwrap_or(usize::MAX), WHAT)?.into();
        let class = bytes.u32(WHAT)?;
        if class != 0 && !symbols.class_names.has(class) {
            return Err(bytes.bad("a label by path for a class that is not there"));
        }
        let class = u16::try_from(class).ok().filter(|&class| class != 0).map(ClassId);
        paths.push(ByPath { path, class, label: context(bytes, symbols)? });
    }
    // A stable order: of two of one length, the first of the file.
    paths.sort_by_key(|entry| std::cmp::Reverse(entry.path.len()));
    labels.paths.insert(name, paths);
    Ok(())
}

/// A context as numbers (kernel: `context_read_and_validate`).
pub(crate) fn context(bytes: &mut Bytes<'_>, symbols: &Symbols) -> Result<Context, PolicyError> {
    const WHAT: &str = "a context";
    let (user, role, type_) = (bytes.u32(WHAT)?, bytes.u32(WHAT)?, bytes.u32(WHAT)?);
    let levels = symbols.sensitivity_names.len() != 0;
    let range = if levels { symbols::range(bytes)? } else { Default::default() };
    let context = Context {
        user: symbols::UserId(user),
        role: symbols::RoleId(role),
        type_: symbols::TypeId(type_),
        range,
    };
    if context.is_valid(symbols) {
        Ok(context)
    } else {
        Err(bytes.bad("a context that the policy itself forbids"))
    }
}
