//! What changes when something new is made: roles, ranges, and types by name (kernel: `policydb.c`,
//! `filename_trans_read`, `range_read`).

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::FxHashMap;

use super::rules::Key;
use super::symbols::{self, Symbols};
use crate::bytes::{Bytes, PolicyError};
use crate::{Bitmap, Range};

/// A rule for one file name: the types of who makes it, and the type it gets.
#[derive(Clone, Debug)]
pub(crate) struct ByName {
    pub(crate) sources: Bitmap,
    pub(crate) new: u32,
}

type Names = BTreeMap<Box<[u8]>, Vec<ByName>>;

/// Transitions that are no rules of types.
#[derive(Clone, Debug, Default)]
pub(crate) struct Transitions {
    /// The new role for a role, a type (of the program or directory) and a class.
    pub(crate) roles: BTreeMap<(u32, u32, u16), u32>,
    /// Which role may become which.
    pub(crate) role_allow: BTreeSet<(u32, u32)>,
    /// By the directory's type and class, then by name.
    pub(crate) names: FxHashMap<(u32, u16), Names>,
    pub(crate) ranges: FxHashMap<Key, Range>,
}

fn class(bytes: &mut Bytes<'_>, symbols: &Symbols) -> Result<u16, PolicyError> {
    let class = bytes.u32("a transition")?;
    match u16::try_from(class) {
        Ok(id) if symbols.class_names.has(class) => Ok(id),
        Ok(_) | Err(_) => Err(bytes.bad("a transition of a class that is not there")),
    }
}

/// The type that the next four bytes name.
pub(crate) fn type_(bytes: &mut Bytes<'_>, symbols: &Symbols) -> Result<u32, PolicyError> {
    let value = bytes.u32("a type")?;
    if symbols.type_names.has(value) { Ok(value) } else { Err(bytes.bad("a type that is not there")) }
}

/// Reads role transitions, role changes that are allowed, and types by name.
pub(crate) fn read(
    bytes: &mut Bytes<'_>,
    symbols: &Symbols,
    version: u32,
) -> Result<Transitions, PolicyError> {
    const WHAT: &str = "the role transitions";
    let mut transitions = Transitions::default();
    for _ in 0..bytes.count(16, WHAT)? {
        let (role, type_, new) = (bytes.u32(WHAT)?, bytes.u32(WHAT)?, bytes.u32(WHAT)?);
        let class = class(bytes, symbols)?;
        if ![role, new].iter().all(|&role| symbols.role_names.has(role)) || !symbols.type_names.has(type_) {
            return Err(bytes.bad("a role transition of a role or type that is not there"));
        }
        transitions.roles.insert((role, type_, class), new);
    }
    for _ in 0..bytes.count(8, WHAT)? {
        let (role, new) = (bytes.u32(WHAT)?, bytes.u32(WHAT)?);
        if ![role, new].iter().all(|&role| symbols.role_names.has(role)) {
            return Err(bytes.bad("a role that is not there may change"));
        }
        transitions.role_allow.insert((role, new));
    }
    let compact = version >= 33;
    for _ in 0..bytes.count(if compact { 16 } else { 20 }, "the transitions by name")? {
        by_name(bytes, symbols, &mut transitions, compact)?;
    }
    Ok(transitions)
}

/// One name (kernel: `filename_trans_read_helper`), with one source (`compact` is false) or all of its sources.
fn by_name(
    bytes: &mut Bytes<'_>,
    symbols: &Symbols,
    transitions: &mut Transitions,
    compact: bool,
) -> Result<(), PolicyError> {
    const WHAT: &str = "a transition by name";
    let length = bytes.u32(WHAT)?;
    let name: Box<[u8]> = bytes.take(usize::try_from(length).unwrap_or(usize::MAX), WHAT)?.into();
    let mut rules = Vec::new();
    let key = if compact {
        let key = (type_(bytes, symbols)?, class(bytes, symbols)?);
        for _ in 0..bytes.count(16, WHAT)? {
            rules.push(ByName { sources: bytes.bitmap()?, new: type_(bytes, symbols)? });
        }
        key
    } else {
        let source = type_(bytes, symbols)?;
        let key = (type_(bytes, symbols)?, class(bytes, symbols)?);
        rules.push(ByName { sources: Bitmap::from_iter([source - 1]), new: type_(bytes, symbols)? });
        key
    };
    transitions.names.entry(key).or_default().entry(name).or_default().extend(rules);
    Ok(())
}

/// Reads the range transitions (kernel: `range_read`).
pub(crate) fn read_ranges(
    bytes: &mut Bytes<'_>,
    symbols: &Symbols,
    transitions: &mut Transitions,
) -> Result<(), PolicyError> {
    for _ in 0..bytes.count(32, "the range transitions")? {
        let (source, target) = (type_(bytes, symbols)?, type_(bytes, symbols)?);
        let class = class(bytes, symbols)?;
        transitions.ranges.insert(Key::new(source, target, class), symbols::range(bytes)?);
    }
    Ok(())
}
