//! One check of labels: who, on what, which permissions (`avc_has_perm`).

use mivask_label::{ClassId, Context, Reason, Unknown as Handling};
use mivask_model::fact::{Provenance, Unknown};
use mivask_model::mode::{Access, FileKind};
use mivask_model::outcome::Errno;

use super::of_place::{label_of, missing, named, possible};
use crate::confined::{Confined, Permission, class_of};
use crate::trace::{Check, Step, StepResult};
use crate::view::{Place, View};
use crate::witness::{MissingFact, Witness};

/// The hook `inode_permission`: `wanted` on the inode at `place`, at its end only where `appending`.
///
/// # Errors
/// EACCES
pub(crate) fn permission<W: Witness>(
    view: &View<'_>,
    place: Place,
    (wanted, appending): (Access, bool),
    path: &[u8],
    w: &mut W,
) -> Result<(), Errno> {
    if view.confined.is_none() || W::ALL_SEEING {
        return Ok(());
    }
    let directory = kind_at(view, place, wanted) == FileKind::Directory;
    let mut needed = Needed::default();
    for (access, permission) in [
        (Access::READ, Permission::Read),
        (Access::WRITE, if appending && !directory { Permission::Append } else { Permission::Write }),
        (Access::EXECUTE, if directory { Permission::Search } else { Permission::Execute }),
    ] {
        if wanted.grants(access) {
            needed.add(permission);
        }
    }
    on_inode(view, place, wanted, needed, path, w)
}

/// The permissions of one check, at most four.
#[derive(Clone, Copy, Default)]
pub(crate) struct Needed {
    all: [Option<Permission>; 4],
}

impl Needed {
    pub(crate) fn of(permissions: &[Permission]) -> Self {
        let mut needed = Self::default();
        permissions.iter().for_each(|permission| needed.add(*permission));
        needed
    }

    pub(crate) fn add(&mut self, permission: Permission) {
        if let Some(free) = self.all.iter_mut().find(|place| place.is_none()) {
            *free = Some(permission);
        }
    }

    fn with(mut self, permission: Permission) -> Self {
        self.add(permission);
        self
    }

    fn iter(self) -> impl Iterator<Item = Permission> {
        self.all.into_iter().flatten()
    }
}

/// The kind of the inode at `place`; what is only presumed is of the kind that the act needs.
fn kind_at(view: &View<'_>, place: Place, wanted: Access) -> FileKind {
    let presumed = if wanted == Access::EXECUTE || wanted == Access::WRITE_EXECUTE {
        FileKind::Directory
    } else {
        FileKind::File
    };
    view.inode(place).map_or(presumed, |inode| inode.kind)
}

/// Whether the process has all of `needed` on the inode at `place`.
///
/// # Errors
/// EACCES
pub(crate) fn on_inode<W: Witness>(
    view: &View<'_>,
    place: Place,
    wanted: Access,
    needed: Needed,
    path: &[u8],
    w: &mut W,
) -> Result<(), Errno> {
    let Some(confined) = view.confined.filter(|_| !W::ALL_SEEING) else { return Ok(()) };
    let class = class_of(kind_at(view, place, wanted));
    let at = At { path, from: || view.provenance(place) };
    confined.assumptions().iter().for_each(|text| w.assume(|| text.clone()));
    match label_of(view, confined, place) {
        Some(label) => on_label(confined, (confined.process(), &label), class, needed, &at, w),
        None => {
            let all = possible(view, confined, place);
            let pairs =
                all.as_ref().map(|all| all.iter().map(|label| Some((confined.process(), label))).collect());
            on_any(view, (confined, place), pairs, (class, needed), &at, w)
        }
    }
}

/// The same about one of several pairs of labels, a source's and a target's, where it is not known which: certain where all permit
/// `needed`, or none does. A pair is `None` where there is no such label; all are where not even these are known.
///
/// # Errors
/// EACCES
pub(crate) fn on_any<W: Witness>(
    view: &View<'_>,
    (confined, place): (&Confined, Place),
    pairs: Option<Vec<Option<(&Context, &Context)>>>,
    (class, needed): (&str, Needed),
    at: &At<'_, impl Fn() -> Provenance>,
    w: &mut W,
) -> Result<(), Errno> {
    let Some(pairs) = pairs else { return on_unknown(view, confined, place, needed, at, w) };
    let (id, bits, _) = bits(confined, class, needed);
    let permits = |pair: &&Option<(&Context, &Context)>| {
        let allowed = |id| pair.map(|(source, target)| confined.allowed(source, target, id));
        id.and_then(allowed).is_some_and(|allowed| bits & !allowed == 0)
    };
    let allowed = pairs.iter().filter(permits).count();
    // A policy that is not given may permit it for one of them.
    let perhaps = |pair: &(&Context, &Context)| needed.iter().all(|one| confined.perhaps(*pair, class, one));
    let open = allowed != 0 || confined.is_bounded() && pairs.iter().flatten().any(perhaps);
    if open && allowed != pairs.len() {
        return on_unknown(view, confined, place, needed, at, w);
    }
    match pairs.first() {
        Some(Some(pair)) => on_label(confined, *pair, class, needed, at, w),
        Some(None) | None if confined.is_permissive() => Ok(()),
        Some(None) | None => {
            let fact = "the policy does not let the parts of the new label go together";
            failed(fact.to_owned(), at, w);
            Err(Errno::EACCES)
        }
    }
}

/// Records a failed check of labels.
fn failed<W: Witness>(fact: String, at: &At<'_, impl Fn() -> Provenance>, w: &mut W) {
    let result = StepResult::Failed(Errno::EACCES);
    w.step(|| {
        if W::BRIEF {
            return Step::brief(Check::Label, result);
        }
        let path = if at.path.is_empty() { b"/".to_vec() } else { at.path.to_vec() };
        Step { path, check: Check::Label, fact, from: (at.from)(), result, bits: None }
    });
}

/// Where a check is made, for the trace.
pub(crate) struct At<'p, F> {
    pub(crate) path: &'p [u8],
    pub(crate) from: F,
}

/// Whether `source` has all of `needed` on something of `class` labelled `target`.
///
/// # Errors
/// EACCES
pub(crate) fn on_label<W: Witness>(
    confined: &Confined,
    (source, target): (&Context, &Context),
    class: &str,
    needed: Needed,
    at: &At<'_, impl Fn() -> Provenance>,
    w: &mut W,
) -> Result<(), Errno> {
    let (id, bits, unknown) = bits(confined, class, needed);
    let policy = confined.policy();
    let mut denied = id.map_or(0, |id| bits & !confined.allowed(source, target, id));
    let mut refused = denied != 0 || unknown && policy.unknown() != Handling::Allow;
    if refused && confined.is_bounded() {
        let perhaps = |one| confined.perhaps((source, target), class, one);
        if needed.iter().all(perhaps) {
            let words = words(confined, (source, target), class, (needed, 0), None);
            refused = !policy_permits(&words, w);
        } else {
            // What is certain is denied for what no policy permits.
            let open = needed.iter().filter(|one| perhaps(*one)).fold(Needed::default(), Needed::with);
            denied &= !self::bits(confined, class, open).1;
        }
    }
    let result = if refused && !confined.is_permissive() {
        StepResult::Failed(Errno::EACCES)
    } else {
        StepResult::Passed
    };
    w.step(|| {
        if W::BRIEF {
            return Step::brief(Check::Label, result);
        }
        let why = if refused { Some(reasons(confined, source, target, id, denied)) } else { None };
        let fact = words(confined, (source, target), class, (needed, denied), why);
        let path = if at.path.is_empty() { b"/".to_vec() } else { at.path.to_vec() };
        Step { path, check: Check::Label, fact, from: (at.from)(), result, bits: None }
    });
    match result {
        StepResult::Passed => Ok(()),
        StepResult::Failed(errno) => Err(errno),
    }
}

/// The class, its bits for `needed`, and whether the policy lacks the class or one of them.
fn bits(confined: &Confined, class: &str, needed: Needed) -> (Option<ClassId>, u32, bool) {
    let Some(class) = confined.policy().class(class) else { return (None, 0, true) };
    let mut unknown = false;
    let bits = needed.iter().fold(0, |bits, permission| {
        let bit = class.permission(permission.word());
        unknown |= bit.is_none();
        bits | bit.unwrap_or(0)
    });
    (Some(class.id()), bits, unknown)
}

/// `container_t may not write user_home_t (class file): no rule allows it`.
fn words(
    confined: &Confined,
    (source, target): (&Context, &Context),
    class: &str,
    (needed, denied): (Needed, u32),
    why: Option<String>,
) -> String {
    let found = confined.policy().class(class);
    let bit =
        |permission: &Permission| found.and_then(|class| class.permission(permission.word())).unwrap_or(0);
    // Of a check that fails, what it fails for.
    let counts = |permission: &Permission| denied == 0 || bit(permission) & denied != 0;
    let permissions: Vec<_> = needed.iter().filter(counts).map(Permission::word).collect();
    let (source, target) = (confined.short(source), confined.short(target));
    let may = if why.is_none() { "may" } else { "may not" };
    let what = permissions.join(", ");
    let permissive = match (&why, confined.is_permissive()) {
        (Some(_), true) => "; SELinux is permissive here: it is allowed, and logged",
        (Some(_) | None, _) => "",
    };
    let why = why.map(|why| format!(": {why}")).unwrap_or_default();
    format!("{source} {may} {what} {target} (class {class}){why}{permissive}")
}

/// Why permissions are denied.
fn reasons(
    confined: &Confined,
    source: &Context,
    target: &Context,
    class: Option<ClassId>,
    denied: u32,
) -> String {
    let policy = confined.policy();
    let Some(id) = class else { return "the policy does not know this class".to_owned() };
    let refusals = policy.refusals(source, target, id, denied);
    let class = policy.classes().find(|class| class.id() == id);
    let all = refusals.iter().map(|refusal| {
        let names: Vec<_> = class.map(|class| class.names(refusal.permissions).collect()).unwrap_or_default();
        let names = names.join(", ");
        match &refusal.reason {
            Reason::NoRule => format!("no rule allows {names}"),
            Reason::Off(booleans) => {
                format!("the rule for {names} waits for the boolean {}", booleans.join(" or "))
            }
            Reason::Constraint(constraint) => {
                let word = if constraint.compares_levels() {
                    "the levels do not fit: mlsconstrain"
                } else {
                    "constrain"
                };
                format!("{word} {names} ({})", policy.constraint_text(constraint))
            }
            Reason::Role => "the role may not become the other".to_owned(),
            Reason::Bounds(outer) => format!("{outer}, which bounds it, may not {names}"),
        }
    });
    let all: Vec<_> = all.collect();
    if all.is_empty() { "the policy does not know such a permission".to_owned() } else { all.join("; ") }
}

/// Where the policy is not given, and some permit what `words` say.
fn policy_permits<W: Witness>(words: &str, w: &mut W) -> bool {
    let fact = format!("whether in the host's policy {words}");
    let unknown = Unknown::new(&fact, "give `host: { selinux: { policy: FILE } }`");
    let describe =
        |option| format!("the host's policy {} this: {words}", ["permits", "does not permit"][option]);
    w.choose(MissingFact::Policy(words.to_owned()), &unknown, 2, describe) == 0
}

/// Where the label is not given, both are possible.
fn on_unknown<W: Witness>(
    view: &View<'_>,
    confined: &Confined,
    place: Place,
    needed: Needed,
    at: &At<'_, impl Fn() -> Provenance>,
    w: &mut W,
) -> Result<(), Errno> {
    if confined.is_permissive() {
        return Ok(());
    }
    let unknown = missing(view, place);
    let name = named(view, place);
    let who = confined.short(confined.process());
    let describe = |option| {
        let let_it = if option == 0 { "let" } else { "do not let" };
        format!("the labels of {name} {let_it} {who} do it")
    };
    if w.choose(MissingFact::Labels(place.source), &unknown, 2, describe) == 0 {
        return Ok(());
    }
    let needed: Vec<_> = needed.iter().map(Permission::word).collect();
    failed(format!("a label that does not let {who} {}", needed.join(", ")), at, w);
    Err(Errno::EACCES)
}
