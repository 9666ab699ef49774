//! The binary policy of a host (kernel: `security/selinux/ss/policydb.c`, `policydb_read`).

pub(crate) mod constraint;
mod constraint_text;
pub(crate) mod labels;
pub(crate) mod rules;
pub(crate) mod symbols;
pub(crate) mod transitions;

use crate::bytes::{Bytes, PolicyError, Problem};
use crate::{Bitmap, Class, ClassId, Context};
use labels::{Behavior, FileSystem, Labels, Source};
use rules::Rules;
use symbols::{Symbols, TypeId};
use transitions::Transitions;

/// What happens to classes and permissions that the kernel has and the policy has not (`handle_unknown`).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unknown {
    /// They are denied.
    Deny,
    /// The kernel refuses to load such a policy.
    Reject,
    /// They are allowed.
    Allow,
}

/// A binary policy, ready to be asked.
#[derive(Clone, Debug)]
pub struct Policy {
    pub(crate) version: u32,
    pub(crate) levels: bool,
    pub(crate) unknown: Unknown,
    pub(crate) capabilities: Bitmap,
    pub(crate) permissive: Bitmap,
    pub(crate) symbols: Symbols,
    pub(crate) rules: Rules,
    pub(crate) transitions: Transitions,
    pub(crate) labels: Labels,
    /// For each type the types and attributes whose rules are its own, less 1; itself is one of them.
    pub(crate) attributes: Vec<Vec<u32>>,
}

const MAGIC: u32 = 0xf97c_ff8c;
const TARGET: &[u8] = b"SE Linux";

impl Policy {
    /// Reads a policy of version 30 to 33, as `/sys/fs/selinux/policy` and `/etc/selinux/*/policy/policy.*` have it.
    ///
    /// # Errors
    /// Whatever is no such policy, is cut short, names what it does not have, or goes on after its end.
    pub fn read(all: &[u8]) -> Result<Self, PolicyError> {
        let mut bytes = Bytes::new(all);
        let (version, config, kinds) = head(&mut bytes)?;
        let levels = config & 1 != 0;
        let unknown = match config & 6 {
            0 => Unknown::Deny,
            2 => Unknown::Reject,
            4 => Unknown::Allow,
            _ => return Err(bytes.bad("a policy that both rejects and allows what it does not know")),
        };
        let (capabilities, permissive) = (bytes.bitmap()?, bytes.bitmap()?);
        let symbols = symbols::read(&mut bytes, levels)?;
        if levels == (symbols.sensitivity_names.len() == 0) {
            return Err(bytes.bad("a policy with levels has sensitivities, one without has none"));
        }
        let mut rules = rules::read(&mut bytes, &symbols)?;
        rules::read_conditional(&mut bytes, &mut rules, &symbols)?;
        rules.settle(&symbols);
        let mut transitions = transitions::read(&mut bytes, &symbols, version)?;
        let labels = labels::read(&mut bytes, &symbols, kinds)?;
        transitions::read_ranges(&mut bytes, &symbols, &mut transitions)?;
        let attributes = attributes(&mut bytes, &symbols)?;
        if bytes.left() != 0 {
            return Err(bytes.problem(Problem::Left(bytes.left())));
        }
        let policy = Self {
            version,
            levels,
            unknown,
            capabilities,
            permissive,
            symbols,
            rules,
            transitions,
            labels,
            attributes,
        };
        if !policy.labels.initial.contains_key(&UNLABELED) || !policy.labels.initial.contains_key(&KERNEL) {
            return Err(bytes.bad("a policy without the labels of the kernel and of what has none"));
        }
        Ok(policy)
    }

    /// Its version.
    #[must_use]
    pub const fn version(&self) -> u32 {
        self.version
    }

    /// What happens to permissions that it does not know.
    #[must_use]
    pub const fn unknown(&self) -> Unknown {
        self.unknown
    }

    /// How many rules of types it has, those of conditions among them.
    #[must_use]
    pub const fn rules(&self) -> usize {
        self.rules.count
    }

    /// A class by name.
    #[must_use]
    pub fn class(&self, name: &str) -> Option<&Class> {
        let value = self.symbols.class_names.value(name)?;
        self.symbols.classes.get(symbols::index(value)?)
    }

    /// All classes.
    pub fn classes(&self) -> impl Iterator<Item = &Class> {
        self.symbols.classes.iter()
    }

    /// The class of a decision.
    pub(crate) fn class_of(&self, class: ClassId) -> Option<&Class> {
        self.symbols.classes.get(symbols::index(class.0.into())?)
    }

    /// A type, attribute or alias by name.
    #[must_use]
    pub fn type_(&self, name: &str) -> Option<TypeId> {
        self.symbols.type_names.value(name).map(TypeId)
    }

    /// The name of a type or attribute.
    #[must_use]
    pub fn type_name(&self, type_: TypeId) -> &str {
        self.symbols.type_names.name(type_.0).unwrap_or("?")
    }

    /// The names of all types and attributes.
    pub fn type_names(&self) -> impl Iterator<Item = &str> {
        self.symbols.type_names.iter()
    }

    /// The names of all users.
    pub fn user_names(&self) -> impl Iterator<Item = &str> {
        self.symbols.user_names.iter()
    }

    /// The names of all roles.
    pub fn role_names(&self) -> impl Iterator<Item = &str> {
        self.symbols.role_names.iter()
    }

    /// Whether processes of this type are allowed everything, and only logged.
    #[must_use]
    pub fn is_permissive(&self, type_: TypeId) -> bool {
        self.permissive.contains(type_.0)
    }

    /// Whether contexts carry levels.
    #[must_use]
    pub const fn has_levels(&self) -> bool {
        self.levels
    }

    /// Whether it declares a policy capability, by the kernel's number (`POLICY_CAP_*`).
    #[must_use]
    pub fn has_capability(&self, number: u32) -> bool {
        self.capabilities.contains(number)
    }

    /// The booleans with their states, sorted by their values.
    pub fn booleans(&self) -> impl Iterator<Item = (&str, bool)> {
        self.symbols.booleans.iter().map(|boolean| (&*boolean.name, boolean.on))
    }

    /// The booleans of a condition.
    pub(crate) fn booleans_of(&self, condition: u32) -> impl Iterator<Item = &str> {
        let words = usize::try_from(condition).ok().and_then(|place| self.rules.conditions.get(place));
        words.into_iter().flatten().filter_map(|word| match word {
            rules::Word::Boolean(place) => {
                let place = usize::try_from(*place).ok()?;
                self.symbols.booleans.get(place).map(|boolean| &*boolean.name)
            }
            rules::Word::Not
            | rules::Word::Or
            | rules::Word::And
            | rules::Word::Xor
            | rules::Word::Same
            | rules::Word::Other => None,
        })
    }

    /// Sets a boolean, as `setsebool` does; `false` if there is none of that name.
    pub fn set_boolean(&mut self, name: &str, on: bool) -> bool {
        let found = self.symbols.booleans.iter_mut().find(|boolean| &*boolean.name == name);
        let Some(boolean) = found else { return false };
        boolean.on = on;
        self.rules.settle(&self.symbols);
        true
    }

    /// The label of what has none (`unlabeled_t`).
    #[must_use]
    pub fn unlabeled(&self) -> &Context {
        &self.labels.initial[&UNLABELED]
    }

    /// The label of an inode of an attribute file system whose attribute is not set (`file_t`, by a line `sid file`).
    #[must_use]
    pub fn without_attribute(&self) -> &Context {
        self.labels.initial.get(&FILE).unwrap_or_else(|| self.unlabeled())
    }

    /// How file systems of a type such as `ext4`, `fuse.sshfs` or `proc` are labelled (kernel: `security_fs_use`).
    #[must_use]
    pub fn file_system(&self, name: &str) -> FileSystem {
        if let Some((behavior, label)) = self.labels.uses.get(name) {
            return FileSystem { behavior: *behavior, label: label.clone(), source: Source::Use };
        }
        match self.class("dir").and_then(|class| self.path_label(name, b"/", class.id)) {
            Some(label) => {
                FileSystem { behavior: Behavior::Paths, label: label.clone(), source: Source::Paths }
            }
            None => FileSystem {
                behavior: Behavior::None,
                label: self.unlabeled().clone(),
                source: Source::Unlabeled,
            },
        }
    }

    /// The one label of everything on a file system that `genfscon` labels whatever the path; `None` where paths differ.
    #[must_use]
    pub fn uniform_label(&self, name: &str) -> Option<&Context> {
        match self.labels.paths.get(name)?.as_slice() {
            [only] if &*only.path == b"/" && only.class.is_none() => Some(&only.label),
            _ => None,
        }
    }

    /// The label of `path` within a file system that `genfscon` labels (kernel: `__security_genfs_sid`): the longest
    /// line that is the path's beginning, as bytes.
    #[must_use]
    pub fn path_label(&self, name: &str, path: &[u8], class: ClassId) -> Option<&Context> {
        let paths = self.labels.paths.get(name)?;
        let found = paths
            .iter()
            .find(|entry| entry.class.is_none_or(|wanted| wanted == class) && path.starts_with(&entry.path));
        found.map(|entry| &entry.label)
    }
}

/// Initial SIDs by number (kernel: `initial_sid_to_string.h`).
const KERNEL: u32 = 1;
const UNLABELED: u32 = 3;
const FILE: u32 = 5;

/// Magic, target, version and the numbers of tables; gives version, flags and how many kinds of labels there are.
fn head(bytes: &mut Bytes<'_>) -> Result<(u32, u32, usize), PolicyError> {
    const WHAT: &str = "its head";
    let start = Bytes::new(bytes.take(0, WHAT)?).bad("");
    let not = PolicyError { problem: Problem::NotAPolicy, ..start };
    let magic = bytes.u32(WHAT).map_err(|_| not.clone())?;
    let length = bytes.u32(WHAT).map_err(|_| not.clone())?;
    if magic != MAGIC
        || usize::try_from(length) != Ok(TARGET.len())
        || bytes.take(TARGET.len(), WHAT).ok() != Some(TARGET)
    {
        return Err(not);
    }
    let version = bytes.u32(WHAT)?;
    if !(30..=33).contains(&version) {
        return Err(bytes.problem(Problem::Version(version)));
    }
    let (config, tables, kinds) = (bytes.u32(WHAT)?, bytes.u32(WHAT)?, bytes.u32(WHAT)?);
    let wanted = if version == 30 { 7 } else { 9 };
    if tables != 8 || kinds != wanted {
        return Err(bytes.bad("the numbers of tables are not those of its version"));
    }
    Ok((version, config, if version == 30 { 7 } else { 9 }))
}

/// Reads for each type the attributes it has.
fn attributes(bytes: &mut Bytes<'_>, symbols: &Symbols) -> Result<Vec<Vec<u32>>, PolicyError> {
    let mut all = Vec::with_capacity(symbols.type_names.len());
    // The reader of the types held their number to sixteen bits.
    for own in 0..u32::try_from(symbols.type_names.len()).unwrap_or(0) {
        let mut map = bytes.bitmap()?;
        if map.last().is_some_and(|last| !symbols.type_names.has(last + 1)) {
            return Err(bytes.bad("a type with an attribute that is not there"));
        }
        map.insert(own);
        all.push(map.iter().collect());
    }
    Ok(all)
}
