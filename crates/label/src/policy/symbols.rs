//! The symbol tables: classes with their permissions, roles, types, users, booleans, sensitivities, categories
//! (kernel: `policydb.c`, `common_read` to `cat_read`).

use std::collections::BTreeMap;

use super::constraint::{self, Constraint};
use crate::bytes::{Bytes, PolicyError};
use crate::{Bitmap, Level, Range};

/// A class of objects, such as `file`, by its value from 1.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ClassId(pub(crate) u16);

/// A type, such as `container_t`, by its value from 1.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TypeId(pub(crate) u32);

/// A role, such as `system_r`, by its value from 1.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RoleId(pub(crate) u32);

/// A user of the policy, such as `system_u`, by its value from 1.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct UserId(pub(crate) u32);

impl RoleId {
    /// The role of everything that is no process (kernel: `OBJECT_R_VAL`).
    pub(crate) const OBJECT: Self = Self(1);
}

/// Names of one table with their values, from 1; an alias has the value of what it stands for.
#[derive(Clone, Debug, Default)]
pub(crate) struct Names {
    values: BTreeMap<Box<str>, u32>,
    names: Vec<Option<Box<str>>>,
}

impl Names {
    pub(crate) fn value(&self, name: &str) -> Option<u32> {
        self.values.get(name).copied()
    }

    pub(crate) fn name(&self, value: u32) -> Option<&str> {
        self.names.get(index(value)?)?.as_deref()
    }

    /// How many values there are: the largest one.
    pub(crate) fn len(&self) -> usize {
        self.names.len()
    }

    pub(crate) fn iter(&self) -> impl Iterator<Item = &str> {
        self.names.iter().filter_map(Option::as_deref)
    }

    /// Whether `value` may stand in a rule.
    pub(crate) fn has(&self, value: u32) -> bool {
        index(value).is_some_and(|index| index < self.names.len())
    }

    fn put(
        &mut self,
        bytes: &Bytes<'_>,
        name: Box<str>,
        value: u32,
        alias: bool,
    ) -> Result<usize, PolicyError> {
        let place = index(value).filter(|&place| place < self.names.len());
        let place = place.ok_or_else(|| bytes.bad("a symbol whose value is beyond its table"))?;
        if !alias {
            if self.names[place].is_some() {
                return Err(bytes.bad("two symbols with one value"));
            }
            self.names[place] = Some(name.clone());
        }
        if self.values.insert(name, value).is_some() {
            return Err(bytes.bad("a symbol that is there twice"));
        }
        Ok(place)
    }
}

/// The place of a value from 1.
pub(crate) fn index(value: u32) -> Option<usize> {
    usize::try_from(value).ok()?.checked_sub(1)
}

/// What the compiler's `default_user`, `default_role`, `default_type` and `default_range` say of new objects of a class.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Defaults {
    /// 1: the process's, 2: the directory's.
    pub(crate) user: u32,
    pub(crate) role: u32,
    pub(crate) type_: u32,
    /// 1 to 3: low, high or both of the process; 4 to 6: of the directory; 7: what both have in common.
    pub(crate) range: u32,
}

/// A class of objects: its permissions, by name and bit, and what constrains them.
#[derive(Clone, Debug)]
pub struct Class {
    pub(crate) id: ClassId,
    pub(crate) name: Box<str>,
    /// Names by value, those of the common set first.
    pub(crate) permissions: Names,
    pub(crate) constraints: Vec<Constraint>,
    /// `validatetrans`: who may change a label of this class from what to what.
    pub(crate) changes: Vec<Constraint>,
    pub(crate) defaults: Defaults,
}

impl Class {
    /// What the policy's rules know it by.
    #[must_use]
    pub const fn id(&self) -> ClassId {
        self.id
    }

    /// Its name, such as `file`.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The bit of a permission such as `read`; `None` if this policy does not have it.
    #[must_use]
    pub fn permission(&self, name: &str) -> Option<u32> {
        let value = self.permissions.value(name)?;
        1_u32.checked_shl(value.checked_sub(1)?)
    }

    /// The names of `permissions`, in the order of their bits.
    pub fn names(&self, permissions: u32) -> impl Iterator<Item = &str> {
        (0..32)
            .filter(move |bit| permissions >> bit & 1 == 1)
            .filter_map(|bit| self.permissions.name(bit + 1))
    }

    /// What constrains them.
    #[must_use]
    pub fn constraints(&self) -> &[Constraint] {
        &self.constraints
    }

    /// All of its permissions.
    #[must_use]
    pub fn all(&self) -> u32 {
        (0..32).filter(|bit| self.permissions.name(bit + 1).is_some()).fold(0, |all, bit| all | 1 << bit)
    }
}

#[derive(Clone, Debug, Default)]
pub(crate) struct Role {
    pub(crate) types: Bitmap,
    /// The roles below it; every role is below itself.
    pub(crate) dominates: Bitmap,
}

#[derive(Clone, Debug, Default)]
pub(crate) struct User {
    pub(crate) roles: Bitmap,
    pub(crate) range: Range,
}

#[derive(Clone, Debug)]
pub(crate) struct Boolean {
    pub(crate) name: Box<str>,
    pub(crate) on: bool,
}

/// All tables of a policy.
#[derive(Clone, Debug, Default)]
pub(crate) struct Symbols {
    pub(crate) class_names: Names,
    pub(crate) classes: Vec<Class>,
    pub(crate) role_names: Names,
    pub(crate) roles: Vec<Role>,
    pub(crate) type_names: Names,
    /// For each type the one that bounds it, or 0.
    pub(crate) bounds: Vec<u32>,
    /// Which of the types are attributes, less 1: no context has one.
    pub(crate) attributes: Bitmap,
    pub(crate) user_names: Names,
    pub(crate) users: Vec<User>,
    pub(crate) booleans: Vec<Boolean>,
    pub(crate) sensitivity_names: Names,
    /// For each sensitivity the categories that may go with it.
    pub(crate) sensitivities: Vec<Bitmap>,
    pub(crate) category_names: Names,
}

type Commons = BTreeMap<Box<str>, BTreeMap<Box<str>, u32>>;

/// Reads all eight tables.
pub(crate) fn read(bytes: &mut Bytes<'_>, levels: bool) -> Result<Symbols, PolicyError> {
    let mut symbols = Symbols::default();
    let mut commons = Commons::new();
    table(bytes, 16, |bytes, _| common(bytes, &mut commons))?;
    (symbols.class_names, symbols.classes) = classes(bytes, &commons)?;
    symbols.role_names = table_of(bytes, &mut symbols.roles, |bytes, names, roles| {
        let [length, value, _bounds] = words(bytes, "a role")?;
        let name = bytes.name(length, "a role")?;
        let (dominates, types) = (bytes.bitmap()?, bytes.bitmap()?);
        let place = names.put(bytes, name, value, false)?;
        roles[place] = Role { types, dominates };
        Ok(())
    })?;
    types(bytes, &mut symbols)?;
    symbols.user_names = table_of(bytes, &mut symbols.users, |bytes, names, users| {
        let [length, value, _bounds] = words(bytes, "a user")?;
        let name = bytes.name(length, "a user")?;
        let roles = bytes.bitmap()?;
        let (range, _usual) = if levels { (range(bytes)?, level(bytes)?) } else { Default::default() };
        let place = names.put(bytes, name, value, false)?;
        users[place] = User { roles, range };
        Ok(())
    })?;
    booleans(bytes, &mut symbols.booleans)?;
    symbols.sensitivity_names =
        table_of(bytes, &mut symbols.sensitivities, |bytes, names, all: &mut Vec<Bitmap>| {
            let [length, alias] = words(bytes, "a sensitivity")?;
            let name = bytes.name(length, "a sensitivity")?;
            let level = level(bytes)?;
            let place = names.put(bytes, name, level.sensitivity, alias != 0)?;
            if alias == 0 {
                all[place] = level.categories;
            }
            Ok(())
        })?;
    symbols.category_names = table_of(bytes, &mut Vec::<()>::new(), |bytes, names, _| {
        let [length, value, alias] = words(bytes, "a category")?;
        let name = bytes.name(length, "a category")?;
        names.put(bytes, name, value, alias != 0).map(drop)
    })?;
    Ok(symbols)
}

fn types(bytes: &mut Bytes<'_>, symbols: &mut Symbols) -> Result<(), PolicyError> {
    const PRIMARY: u32 = 1;
    const ATTRIBUTE: u32 = 2;
    let attributes = &mut symbols.attributes;
    symbols.type_names = table_of(bytes, &mut symbols.bounds, |bytes, names, all| {
        let [length, value, properties, bounds] = words(bytes, "a type")?;
        let name = bytes.name(length, "a type")?;
        let place = names.put(bytes, name, value, properties & PRIMARY == 0)?;
        if properties & PRIMARY != 0 {
            all[place] = bounds;
            if properties & ATTRIBUTE != 0 {
                attributes.insert(value - 1);
            }
        }
        Ok(())
    })?;
    // A rule has sixteen bits for a type.
    if symbols.type_names.len() > usize::from(u16::MAX) {
        return Err(bytes.bad("more types than rules can name"));
    }
    if symbols.bounds.iter().any(|&bounds| bounds != 0 && !symbols.type_names.has(bounds)) {
        return Err(bytes.bad("a type that is bounded by one that is not there"));
    }
    Ok(())
}

fn words<const N: usize>(bytes: &mut Bytes<'_>, what: &'static str) -> Result<[u32; N], PolicyError> {
    let mut words = [0; N];
    for word in &mut words {
        *word = bytes.u32(what)?;
    }
    Ok(words)
}

/// Calls `each` for every entry of a table whose entries have at least `size` bytes; gives the largest value.
fn table(
    bytes: &mut Bytes<'_>,
    size: usize,
    mut each: impl FnMut(&mut Bytes<'_>, usize) -> Result<(), PolicyError>,
) -> Result<(), PolicyError> {
    // Every value has an entry, so that there are no more of them than there are entries.
    let values = bytes.count(size, "a symbol table")?;
    let entries = bytes.count(size, "a symbol table")?;
    (0..entries).try_for_each(|_| each(bytes, values))
}

/// A table of names, and what else is known of each value in `all`.
fn table_of<T: Default>(
    bytes: &mut Bytes<'_>,
    all: &mut Vec<T>,
    mut each: impl FnMut(&mut Bytes<'_>, &mut Names, &mut Vec<T>) -> Result<(), PolicyError>,
) -> Result<Names, PolicyError> {
    let values = bytes.count(8, "a symbol table")?;
    let entries = bytes.count(8, "a symbol table")?;
    let mut names = Names { values: BTreeMap::new(), names: vec![None; values] };
    all.resize_with(values, T::default);
    (0..entries).try_for_each(|_| each(bytes, &mut names, all))?;
    Ok(names)
}

fn common(bytes: &mut Bytes<'_>, commons: &mut Commons) -> Result<(), PolicyError> {
    let [length, _value, _largest, entries] = words(bytes, "a common set of permissions")?;
    let name = bytes.name(length, "a common set of permissions")?;
    let mut permissions = BTreeMap::new();
    for _ in 0..entries {
        let (permission, value) = permission(bytes)?;
        permissions.insert(permission, value);
    }
    commons.insert(name, permissions);
    Ok(())
}

fn permission(bytes: &mut Bytes<'_>) -> Result<(Box<str>, u32), PolicyError> {
    let [length, value] = words(bytes, "a permission")?;
    let name = bytes.name(length, "a permission")?;
    if (1..=32).contains(&value) {
        Ok((name, value))
    } else {
        Err(bytes.bad("a permission beyond the 32 of a class"))
    }
}

fn classes(bytes: &mut Bytes<'_>, commons: &Commons) -> Result<(Names, Vec<Class>), PolicyError> {
    let mut all: Vec<Option<Class>> = Vec::new();
    let names = table_of(bytes, &mut all, |bytes, names, all| {
        let class = class(bytes, commons)?;
        let place = names.put(bytes, class.name.clone(), class.id.0.into(), false)?;
        all[place] = Some(class);
        Ok(())
    })?;
    let classes = all.into_iter().collect::<Option<Vec<_>>>();
    Ok((names, classes.ok_or_else(|| bytes.bad("a class that has a value and no name"))?))
}

fn class(bytes: &mut Bytes<'_>, commons: &Commons) -> Result<Class, PolicyError> {
    let [length, common, value, _largest, entries, constraints] = words(bytes, "a class")?;
    let name = bytes.name(length, "a class")?;
    let mut permissions = Names { values: BTreeMap::new(), names: vec![None; 32] };
    if common != 0 {
        let key = bytes.name(common, "a class")?;
        let inherited =
            commons.get(&key).ok_or_else(|| bytes.bad("a class with a common set that is not there"))?;
        for (name, value) in inherited {
            permissions.put(bytes, name.clone(), *value, false)?;
        }
    }
    for _ in 0..entries {
        let (name, value) = permission(bytes)?;
        permissions.put(bytes, name, value, false)?;
    }
    let constraints = constraint::read(bytes, constraints)?;
    let count = bytes.u32("a class")?;
    let changes = constraint::read(bytes, count)?;
    let [user, role, range, type_] = words(bytes, "the defaults of a class")?;
    if user > 2 || role > 2 || type_ > 2 || range > 7 {
        return Err(bytes.bad("defaults of a class that are none"));
    }
    let id = u16::try_from(value).map_err(|_| bytes.bad("a class beyond 65535"))?;
    let defaults = Defaults { user, role, type_, range };
    Ok(Class { id: ClassId(id), name, permissions, constraints, changes, defaults })
}

fn booleans(bytes: &mut Bytes<'_>, all: &mut Vec<Boolean>) -> Result<(), PolicyError> {
    let mut states = Vec::new();
    let names = table_of(bytes, &mut states, |bytes, names, states: &mut Vec<bool>| {
        let [value, state, length] = words(bytes, "a boolean")?;
        let name = bytes.name(length, "a boolean")?;
        let place = names.put(bytes, name, value, false)?;
        states[place] = state != 0;
        Ok(())
    })?;
    for (name, on) in names.names.into_iter().zip(states) {
        all.push(Boolean {
            name: name.ok_or_else(|| bytes.bad("a boolean that has a value and no name"))?,
            on,
        });
    }
    Ok(())
}

/// Reads a level (kernel: `mls_read_level`).
pub(crate) fn level(bytes: &mut Bytes<'_>) -> Result<Level, PolicyError> {
    Ok(Level { sensitivity: bytes.u32("a level")?, categories: bytes.bitmap()? })
}

/// Reads a range of one or two levels (kernel: `mls_read_range_helper`).
pub(crate) fn range(bytes: &mut Bytes<'_>) -> Result<Range, PolicyError> {
    let (count, low) = (bytes.u32("a range")?, bytes.u32("a range")?);
    let high = match count {
        1 => None,
        2 => Some(bytes.u32("a range")?),
        _ => return Err(bytes.bad("a range that has neither one level nor two")),
    };
    let low = Level { sensitivity: low, categories: bytes.bitmap()? };
    let high = match high {
        Some(sensitivity) => Level { sensitivity, categories: bytes.bitmap()? },
        None => low.clone(),
    };
    Ok(Range { low, high })
}
