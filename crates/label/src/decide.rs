//! What one context may do to another (kernel: `services.c`, `context_struct_compute_av`).

use crate::policy::constraint::{Constraint, Levels, Part, Side, Term, Test};
use crate::policy::rules::{Key, Said};
use crate::policy::symbols::index;
use crate::{ClassId, Context, Level, Policy};

/// What is allowed of one class, as bits of its permissions.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Decision {
    /// What is allowed.
    pub allowed: u32,
    /// What is logged when it is denied: all but what `dontaudit` rules name.
    pub logged: u32,
    /// Whether the source's domain is permissive: what is denied happens, and is logged.
    pub permissive: bool,
}

/// Permissions that were asked for and are denied, for one reason.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refusal<'p> {
    /// The bits of the permissions.
    pub permissions: u32,
    /// Why.
    pub reason: Reason<'p>,
}

/// Why permissions are denied.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reason<'p> {
    /// No rule allows it.
    NoRule,
    /// A rule that allows it is there, under a condition that does not hold now.
    Off(Vec<&'p str>),
    /// A constraint does not hold of the two contexts.
    Constraint(&'p Constraint),
    /// The source's role may not become the target's.
    Role,
    /// The domain is bounded by another one, which may not do it.
    Bounds(&'p str),
}

impl Policy {
    /// What `source` may do to `target` as something of `class`.
    #[must_use]
    pub fn decide(&self, source: &Context, target: &Context, class: ClassId) -> Decision {
        let (allowed, logged) = self.by_rules(source, target, class);
        let allowed = self.bounded(source, target, class, self.constrained(source, target, class, allowed));
        Decision { allowed, logged, permissive: self.is_permissive(source.type_) }
    }

    /// Why `source` may not do `asked` to `target`: nothing if it may.
    #[must_use]
    pub fn refusals(
        &self,
        source: &Context,
        target: &Context,
        class: ClassId,
        asked: u32,
    ) -> Vec<Refusal<'_>> {
        let (by_rules, _) = self.by_rules(source, target, class);
        let mut refusals = self.without_rule(source, target, class, asked & !by_rules);
        let mut allowed = by_rules;
        for constraint in self.class_of(class).into_iter().flat_map(|class| &class.constraints) {
            let denied = constraint.permissions & asked & allowed;
            if denied != 0 && !self.holds(constraint, source, target, None) {
                allowed &= !constraint.permissions;
                refusals.push(Refusal { permissions: denied, reason: Reason::Constraint(constraint) });
            }
        }
        let constrained = self.constrained(source, target, class, by_rules);
        if allowed & !constrained & asked != 0 {
            refusals.push(Refusal { permissions: allowed & !constrained & asked, reason: Reason::Role });
        }
        let bounded = self.bounded(source, target, class, constrained);
        if constrained & !bounded & asked != 0 {
            let outer = index(source.type_.0)
                .and_then(|place| self.symbols.type_names.name(self.symbols.bounds[place]));
            let reason = Reason::Bounds(outer.unwrap_or("?"));
            refusals.push(Refusal { permissions: constrained & !bounded & asked, reason });
        }
        refusals
    }

    /// What the rules of types allow, and what is logged.
    fn by_rules(&self, source: &Context, target: &Context, class: ClassId) -> (u32, u32) {
        let (mut allowed, mut logged) = (0, u32::MAX);
        self.each_key(source, target, class, |key| {
            if let Some(rule) = self.rules.allowed.get(&key) {
                allowed |= rule.allowed;
                logged &= rule.logged;
            }
            for said in self.rules.conditional(key) {
                match said {
                    Said::Allow(permissions) => allowed |= permissions,
                    Said::Quiet(quiet) => logged &= quiet,
                    Said::NewType(_) => {}
                }
            }
        });
        (allowed, logged)
    }

    /// Every pair of types and attributes whose rules are about these two contexts.
    fn each_key(&self, source: &Context, target: &Context, class: ClassId, mut each: impl FnMut(Key)) {
        let attributes =
            |context: &Context| index(context.type_.0).and_then(|place| self.attributes.get(place));
        let (Some(sources), Some(targets)) = (attributes(source), attributes(target)) else { return };
        for source in sources {
            for target in targets {
                each(Key::new(source + 1, target + 1, class.0));
            }
        }
    }

    /// What the constraints, and the roles of a process that changes its own, leave of `allowed`.
    fn constrained(&self, source: &Context, target: &Context, class: ClassId, mut allowed: u32) -> u32 {
        let Some(class) = self.class_of(class) else { return 0 };
        for constraint in &class.constraints {
            if constraint.permissions & allowed != 0 && !self.holds(constraint, source, target, None) {
                allowed &= !constraint.permissions;
            }
        }
        if class.name() == "process" && source.role != target.role {
            let changes = ["transition", "dyntransition"].iter().filter_map(|name| class.permission(name));
            let changes = changes.fold(0, |all, bit| all | bit);
            if !self.transitions.role_allow.contains(&(source.role.0, target.role.0)) {
                allowed &= !changes;
            }
        }
        allowed
    }

    /// What the type that bounds the source's leaves of `allowed` (kernel: `type_attribute_bounds_av`).
    fn bounded(&self, source: &Context, target: &Context, class: ClassId, allowed: u32) -> u32 {
        // As deep as types may be nested; the kernel checks for circles when it loads a policy, and has this limit.
        const DEPTH: usize = 4;
        let mut allowed = allowed;
        let (mut source, mut target) = (source.clone(), target.clone());
        for _ in 0..DEPTH {
            let outer =
                |context: &Context| index(context.type_.0).map_or(0, |place| self.symbols.bounds[place]);
            let (bound, target_bound) = (outer(&source), outer(&target));
            if bound == 0 {
                break;
            }
            source.type_.0 = bound;
            if target_bound != 0 {
                target.type_.0 = target_bound;
            }
            let (by_rules, _) = self.by_rules(&source, &target, class);
            allowed &= self.constrained(&source, &target, class, by_rules);
        }
        allowed
    }

    /// Whether the type of `inner` is bounded by that of `outer`, at any depth (kernel: `security_bounded_transition`).
    #[must_use]
    pub fn bounds(&self, outer: &Context, inner: &Context) -> bool {
        let above = |type_: u32| index(type_).map_or(0, |place| self.symbols.bounds[place]);
        let mut type_ = above(inner.type_.0);
        for _ in 0..4 {
            if type_ == 0 {
                break;
            }
            if type_ == outer.type_.0 {
                return true;
            }
            type_ = above(type_);
        }
        false
    }

    /// Whether somebody may change the label of something of `class` (kernel: `security_validate_transition`).
    #[must_use]
    pub fn may_change(&self, old: &Context, new: &Context, changer: &Context, class: ClassId) -> bool {
        let class = self.class_of(class);
        class.is_none_or(|class| class.changes.iter().all(|rule| self.holds(rule, old, new, Some(changer))))
    }

    fn without_rule(
        &self,
        source: &Context,
        target: &Context,
        class: ClassId,
        asked: u32,
    ) -> Vec<Refusal<'_>> {
        let mut off: Vec<&str> = Vec::new();
        let mut waits = 0;
        self.each_key(source, target, class, |key| {
            for rule in self.rules.under_conditions(key) {
                let Said::Allow(permissions) = rule.said else { continue };
                if permissions & asked != 0 {
                    waits |= permissions & asked;
                    off.extend(self.booleans_of(rule.condition));
                }
            }
        });
        off.sort_unstable();
        off.dedup();
        let one = |permissions, reason| (permissions != 0).then_some(Refusal { permissions, reason });
        one(asked & !waits, Reason::NoRule).into_iter().chain(one(waits, Reason::Off(off))).collect()
    }

    /// Whether a constraint holds (kernel: `constraint_expr_eval`).
    fn holds(
        &self,
        constraint: &Constraint,
        source: &Context,
        target: &Context,
        changer: Option<&Context>,
    ) -> bool {
        // The reader holds every constraint to five operands that wait, and to one result.
        let mut stack = [false; 6];
        let mut depth = 0;
        for term in &constraint.terms {
            match term {
                Term::Not => stack[depth - 1] = !stack[depth - 1],
                Term::And | Term::Or => {
                    depth -= 1;
                    let (first, second) = (stack[depth - 1], stack[depth]);
                    stack[depth - 1] = if *term == Term::And { first && second } else { first || second };
                }
                Term::Users(_) | Term::Types(_) | Term::Roles(_) | Term::Levels(..) | Term::Named { .. } => {
                    stack[depth] = self.operand(term, source, target, changer);
                    depth += 1;
                }
            }
        }
        stack[0]
    }

    fn operand(&self, term: &Term, source: &Context, target: &Context, changer: Option<&Context>) -> bool {
        match term {
            Term::Not | Term::And | Term::Or => false,
            Term::Users(same) => (source.user == target.user) == *same,
            Term::Types(same) => (source.type_ == target.type_) == *same,
            Term::Roles(test) => {
                let below = |one: u32, other: u32| {
                    let role = index(one).and_then(|place| self.symbols.roles.get(place));
                    role.is_some_and(|role| role.dominates.contains(other.wrapping_sub(1)))
                };
                let (one, other) = (source.role.0, target.role.0);
                compare(*test, one == other, below(one, other), below(other, one))
            }
            Term::Levels(which, test) => {
                let (first, second) = levels(*which, source, target);
                compare(*test, first == second, first.dominates(second), second.dominates(first))
            }
            Term::Named { side, part, within, values, written: _ } => {
                let context = match side {
                    Side::Source => source,
                    Side::Target => target,
                    Side::Changer => match changer {
                        Some(changer) => changer,
                        None => return false,
                    },
                };
                let value = match part {
                    Part::User => context.user.0,
                    Part::Role => context.role.0,
                    Part::Type => context.type_.0,
                };
                values.contains(value - 1) == *within
            }
        }
    }
}

const fn compare(test: Test, same: bool, above: bool, below: bool) -> bool {
    match test {
        Test::Same => same,
        Test::Other => !same,
        Test::Dominates => above,
        Test::DominatedBy => below,
        Test::Incomparable => !above && !below,
    }
}

const fn levels<'c>(which: Levels, source: &'c Context, target: &'c Context) -> (&'c Level, &'c Level) {
    let (one, two) = (&source.range, &target.range);
    match which {
        Levels::L1L2 => (&one.low, &two.low),
        Levels::L1H2 => (&one.low, &two.high),
        Levels::H1L2 => (&one.high, &two.low),
        Levels::H1H2 => (&one.high, &two.high),
        Levels::L1H1 => (&one.low, &one.high),
        Levels::L2H2 => (&two.low, &two.high),
    }
}
