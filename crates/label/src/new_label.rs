//! The label of something new: a process after `execve`, a file in a directory (kernel: `services.c`,
//! `security_compute_sid`).

use crate::policy::rules::{Key, Said};
use crate::policy::symbols::RoleId;
use crate::{Class, ClassId, Context, Level, Policy, Range};

impl Policy {
    /// The label of what `source` makes below `target`, or of the process that `source` becomes with the program
    /// `target`. `name` is the last component of a new file's path. `None` where the policy does not let the parts of
    /// that label go together: the kernel then denies the act, where it enforces.
    #[must_use]
    pub fn new_label(
        &self,
        source: &Context,
        target: &Context,
        class: ClassId,
        name: Option<&[u8]>,
    ) -> Option<Context> {
        let found = self.class_of(class)?;
        let process = is_process(found);
        let defaults = found.defaults;
        let role = match defaults.role {
            1 => source.role,
            2 => target.role,
            _ if process => source.role,
            _ => RoleId::OBJECT,
        };
        let type_ = match defaults.type_ {
            1 => source.type_,
            2 => target.type_,
            _ if process => source.type_,
            _ => target.type_,
        };
        let user = if defaults.user == 2 { target.user } else { source.user };
        let range = self.new_range(source, target, found)?;
        let mut new = Context { user, role, type_, range };
        let key = Key::new(source.type_.0, target.type_.0, class.0);
        if let Some(type_) = self.new_type(key) {
            new.type_.0 = type_;
        }
        if let Some(type_) = name.and_then(|name| self.type_by_name(source, target, class, name)) {
            new.type_.0 = type_;
        }
        if let Some(&role) = self.transitions.roles.get(&(source.role.0, target.type_.0, class.0)) {
            new.role.0 = role;
        }
        new.is_valid(&self.symbols).then_some(new)
    }

    fn new_type(&self, key: Key) -> Option<u32> {
        let of = |said| match said {
            Said::NewType(type_) => Some(type_),
            Said::Allow(_) | Said::Quiet(_) => None,
        };
        self.rules.new_types.get(&key).copied().or_else(|| self.rules.conditional(key).find_map(of))
    }

    fn type_by_name(&self, source: &Context, target: &Context, class: ClassId, name: &[u8]) -> Option<u32> {
        let names = self.transitions.names.get(&(target.type_.0, class.0))?;
        let rules = names.get(name)?;
        rules.iter().find(|rule| rule.sources.contains(source.type_.0 - 1)).map(|rule| rule.new)
    }

    /// The levels (kernel: `mls_compute_sid`); `None` where those of the two do not meet.
    fn new_range(&self, source: &Context, target: &Context, class: &Class) -> Option<Range> {
        let key = Key::new(source.type_.0, target.type_.0, class.id.0);
        if let Some(range) = self.transitions.ranges.get(&key) {
            return Some(range.clone());
        }
        let of = |level: &Level| Some(Range::of(level));
        match class.defaults.range {
            1 => of(&source.range.low),
            2 => of(&source.range.high),
            3 => Some(source.range.clone()),
            4 => of(&target.range.low),
            5 => of(&target.range.high),
            6 => Some(target.range.clone()),
            7 => source.range.common(&target.range),
            _ if is_process(class) => Some(source.range.clone()),
            _ => of(&source.range.low),
        }
    }
}

/// Whether new objects of a class take after who makes them, as processes and sockets do.
fn is_process(class: &Class) -> bool {
    class.name() == "process" || class.name().ends_with("socket")
}
