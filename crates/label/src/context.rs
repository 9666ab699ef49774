//! A security context, `user:role:type:level` (kernel: `services.c`, `string_to_context_struct`; `mls.c`).

use std::fmt::Write;

use crate::policy::symbols::{RoleId, Symbols, TypeId, UserId, index};
use crate::{Level, Policy, Range};

/// A context of one policy: its numbers mean nothing to another.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Context {
    /// The policy's user.
    pub user: UserId,
    /// The role; `object_r` for what is no process.
    pub role: RoleId,
    /// The type, or domain of a process.
    pub type_: TypeId,
    /// The levels; empty in a policy without.
    pub range: Range,
}

/// Why a text is no context of a policy.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ContextError {
    /// It does not have the parts.
    #[error("a label is written user:role:type:level, such as system_u:object_r:tmp_t:s0")]
    Parts,
    /// The policy has no such user, role, type, sensitivity or category.
    #[error("the policy has no {what} `{name}`")]
    Missing {
        /// What it lacks.
        what: &'static str,
        /// Its name.
        name: Box<str>,
    },
    /// All parts exist, but not together: the user lacks the role, the role the type, or the level is out of range.
    #[error("the policy does not let these parts go together")]
    Invalid,
}

impl Context {
    /// Whether user, role, type and levels go together (kernel: `policydb_context_isvalid`).
    pub(crate) fn is_valid(&self, symbols: &Symbols) -> bool {
        let place = |value| index(value);
        let role = place(self.role.0).and_then(|place| symbols.roles.get(place));
        let user = place(self.user.0).and_then(|place| symbols.users.get(place));
        let (Some(role), Some(user)) = (role, user) else { return false };
        if !symbols.type_names.has(self.type_.0) {
            return false;
        }
        let object = self.role == RoleId::OBJECT;
        if !object && (!role.types.contains(self.type_.0 - 1) || !user.roles.contains(self.role.0 - 1)) {
            return false;
        }
        symbols.sensitivity_names.len() == 0
            || levels_exist(&self.range, symbols) && (object || user.range.contains(&self.range))
    }
}

/// Whether both levels exist and the high one dominates (kernel: `mls_range_isvalid`).
fn levels_exist(range: &Range, symbols: &Symbols) -> bool {
    let exists = |level: &Level| {
        let allowed = index(level.sensitivity).and_then(|place| symbols.sensitivities.get(place));
        allowed.is_some_and(|allowed| allowed.contains_all(&level.categories))
    };
    exists(&range.low) && exists(&range.high) && range.high.dominates(&range.low)
}

impl Policy {
    /// Reads a label such as `system_u:object_r:container_file_t:s0:c12,c40`.
    ///
    /// # Errors
    /// What is no label, or none of this policy: on disk the kernel takes such a one for `unlabeled_t`.
    pub fn context(&self, text: &str) -> Result<Context, ContextError> {
        let mut parts = text.splitn(4, ':');
        let (Some(user), Some(role), Some(type_)) = (parts.next(), parts.next(), parts.next()) else {
            return Err(ContextError::Parts);
        };
        let find = |what, value: Option<u32>, name: &str| {
            value.ok_or_else(|| ContextError::Missing { what, name: name.into() })
        };
        let symbols = &self.symbols;
        let range = match (parts.next(), self.levels) {
            (Some(levels), true) => self.range(levels)?,
            (None, false) => Range::default(),
            (None, true) | (Some(_), false) => return Err(ContextError::Parts),
        };
        let attribute = |value: &u32| symbols.attributes.contains(value.wrapping_sub(1));
        let context = Context {
            user: UserId(find("user", symbols.user_names.value(user), user)?),
            role: RoleId(find("role", symbols.role_names.value(role), role)?),
            type_: TypeId(find(
                "type",
                symbols.type_names.value(type_).filter(|value| !attribute(value)),
                type_,
            )?),
            range,
        };
        if context.is_valid(symbols) { Ok(context) } else { Err(ContextError::Invalid) }
    }

    /// Reads a level or a range of two, such as `s0-s0:c0.c1023`.
    ///
    /// # Errors
    /// A sensitivity or category that the policy does not have.
    pub fn range(&self, text: &str) -> Result<Range, ContextError> {
        match text.split_once('-') {
            Some((low, high)) => Ok(Range { low: self.level(low)?, high: self.level(high)? }),
            None => self.level(text).map(|level| Range::of(&level)),
        }
    }

    fn level(&self, text: &str) -> Result<Level, ContextError> {
        let missing = |what, name: &str| ContextError::Missing { what, name: name.into() };
        let (sensitivity, categories) = match text.split_once(':') {
            Some((sensitivity, categories)) => (sensitivity, Some(categories)),
            None => (text, None),
        };
        let value = self.symbols.sensitivity_names.value(sensitivity);
        let mut level = Level {
            sensitivity: value.ok_or_else(|| missing("sensitivity", sensitivity))?,
            ..Level::default()
        };
        let find =
            |name: &str| self.symbols.category_names.value(name).ok_or_else(|| missing("category", name));
        for part in categories.into_iter().flat_map(|list| list.split(',')) {
            let (first, last) = match part.split_once('.') {
                None => (find(part)?, find(part)?),
                Some((first, last)) => {
                    let (first, last) = (find(first)?, find(last)?);
                    // `c3.c3` is none either (kernel: `mls_context_to_sid`).
                    if last <= first {
                        return Err(missing("range of categories", part));
                    }
                    (first, last)
                }
            };
            (first..=last).for_each(|category| level.categories.insert(category - 1));
        }
        Ok(level)
    }

    /// A label as the kernel writes it.
    #[must_use]
    pub fn text(&self, context: &Context) -> String {
        let symbols = &self.symbols;
        let name = |name: Option<&str>| name.unwrap_or("?").to_owned();
        let mut text = name(symbols.user_names.name(context.user.0));
        for part in [symbols.role_names.name(context.role.0), symbols.type_names.name(context.type_.0)] {
            text.push(':');
            text.push_str(part.unwrap_or("?"));
        }
        if self.levels {
            text.push(':');
            text.push_str(&self.range_text(&context.range));
        }
        text
    }

    /// A range as the kernel writes it (`mls_sid_to_context`): one level if both are the same.
    #[must_use]
    pub fn range_text(&self, range: &Range) -> String {
        let low = self.level_text(&range.low);
        if range.low == range.high { low } else { format!("{low}-{}", self.level_text(&range.high)) }
    }

    fn level_text(&self, level: &Level) -> String {
        let category = |value: u32| self.symbols.category_names.name(value + 1).unwrap_or("?");
        let mut text = self.symbols.sensitivity_names.name(level.sensitivity).unwrap_or("?").to_owned();
        let mut categories = level.categories.iter().peekable();
        let mut separator = ':';
        while let Some(first) = categories.next() {
            let mut last = first;
            while let Some(next) = categories.next_if_eq(&(last + 1)) {
                last = next;
            }
            let _ = write!(text, "{separator}{}", category(first));
            if last != first {
                // Two neighbours are listed, more are a range.
                let between = if last - first > 1 { '.' } else { ',' };
                let _ = write!(text, "{between}{}", category(last));
            }
            separator = ',';
        }
        text
    }
}
