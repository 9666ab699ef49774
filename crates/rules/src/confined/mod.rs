//! What one process brings to SELinux: its label, and the policy it is under.

mod capabilities;
mod permission;

use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, PoisonError};

use mivask_label::{Cache, ClassId, Context, ContextError, Policy, Range};
use mivask_model::caps::CapabilitySet;

pub use permission::Permission;
pub(crate) use permission::class_of;

/// A level that an engine draws for one container: an answer never rests on which one it is.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct OwnPair {
    /// The level that stands for it: no label that is given has these categories but with whole ranges of others.
    pub range: Range,
    /// Whose it is.
    pub of: Arc<str>,
}

/// The label of a process with what comes of it, as an engine, a description or the policy gives it.
#[derive(Clone, Debug)]
pub struct Given {
    /// The label of the process.
    pub process: Context,
    /// The label that the engine gives the container's own files; `None` for what is no container.
    pub files: Option<Context>,
    /// The label of the files of another container, whichever that is.
    pub others: Option<Context>,
    /// What is taken for granted of all.
    pub assumptions: Vec<Arc<str>>,
}

/// One process under a policy.
#[derive(Clone, Debug)]
pub struct Confined {
    policy: Arc<Policy>,
    /// What the policy permits at most, where `policy` is only what it permits at least.
    most: Option<Arc<Policy>>,
    permissive: bool,
    given: Given,
    pairs: Arc<[OwnPair]>,
    /// The categories that labels name which were told: a pair of others stands for a drawn one.
    named: Option<Arc<BTreeSet<u32>>>,
    /// What the policy said before; copies share it.
    cache: Arc<Mutex<Cache>>,
    /// The label of files that an engine labels for every container.
    shared: Option<Context>,
    /// What the policy keeps from it in the host's user namespace, and in another one.
    denied: [CapabilitySet; 2],
}

impl Confined {
    /// A process of this label; `enforcing` is the host's setting, and `pairs` are the levels that stand for drawn ones.
    #[must_use]
    pub fn new(policy: Arc<Policy>, enforcing: bool, given: Given, pairs: Arc<[OwnPair]>) -> Self {
        let permissive = !enforcing || policy.is_permissive(given.process.type_);
        let denied = |initial| {
            if permissive {
                CapabilitySet::EMPTY
            } else {
                capabilities::denied(&policy, &given.process, initial)
            }
        };
        let denied = [denied(true), denied(false)];
        let lowest = policy.range("s0").unwrap_or_default();
        let shared = given.files.clone().map(|files| Context { range: lowest, ..files });
        Self {
            policy,
            most: None,
            permissive,
            given,
            pairs,
            named: None,
            cache: Arc::default(),
            shared,
            denied,
        }
    }

    /// The same where labels that were told have these categories, and others stand for drawn ones.
    #[must_use]
    pub fn naming(self, named: Arc<BTreeSet<u32>>) -> Self {
        Self { named: Some(named), ..self }
    }

    /// The same where the policy is not given: what it permits is between that and `most`, which knows the same labels.
    #[must_use]
    pub fn at_most(self, most: Option<Arc<Policy>>) -> Self {
        Self { most, ..self }
    }

    /// Whether the policy is known only within bounds, with some of its labels.
    #[must_use]
    pub const fn is_bounded(&self) -> bool {
        self.most.is_some()
    }

    /// Whether the policy, of which that is not known, perhaps lets `source` do `needed` to something of `class`. Labels are translated
    /// by their text: numbers differ from policy to policy.
    pub(crate) fn perhaps(
        &self,
        (source, target): (&Context, &Context),
        class: &str,
        needed: Permission,
    ) -> bool {
        let Some(most) = &self.most else { return false };
        let there = |label| most.context(&self.policy.text(label)).ok();
        let (Some(source), Some(target)) = (there(source), there(target)) else { return false };
        let Some(class) = most.class(class) else { return false };
        let allowed = most.decide(&source, &target, class.id()).allowed;
        class.permission(needed.word()).is_some_and(|bit| allowed & bit != 0)
    }

    /// What `source` may do to `target` as something of `class`: the bits of its permissions.
    #[must_use]
    pub fn allowed(&self, source: &Context, target: &Context, class: ClassId) -> u32 {
        // What a thread left that panicked amid it is complete: one insertion, or none.
        let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        let (source, target) = (cache.number(source), cache.number(target));
        cache.decide(&self.policy, source, target, class).allowed
    }

    /// The host's policy.
    #[must_use]
    pub fn policy(&self) -> &Policy {
        &self.policy
    }

    /// The label of the process.
    #[must_use]
    pub const fn process(&self) -> &Context {
        &self.given.process
    }

    /// The label of the container's own files, where it is a container.
    #[must_use]
    pub const fn files(&self) -> Option<&Context> {
        self.given.files.as_ref()
    }

    /// The label of the files of another container, whichever that is.
    #[must_use]
    pub const fn files_of_others(&self) -> Option<&Context> {
        self.given.others.as_ref()
    }

    /// The label of files that an engine labels for every container (`z`).
    #[must_use]
    pub const fn shared_files(&self) -> Option<&Context> {
        self.shared.as_ref()
    }

    /// What is taken for granted of both.
    #[must_use]
    pub fn assumptions(&self) -> &[Arc<str>] {
        &self.given.assumptions
    }

    /// Whether what the policy denies happens all the same, and is logged: a permissive host or domain.
    #[must_use]
    pub const fn is_permissive(&self) -> bool {
        self.permissive
    }

    /// The capabilities that the policy keeps from the process; `initial` says whether it lives in the host's user
    /// namespace, since the class differs.
    #[must_use]
    pub const fn denied_capabilities(&self, initial: bool) -> CapabilitySet {
        self.denied[if initial { 0 } else { 1 }]
    }

    /// A label as it was given, `None` for one that this policy does not know: to the kernel such an inode is
    /// unlabeled (`inode_doinit_use_xattr`).
    ///
    /// # Errors
    /// Why it is none.
    pub fn context(&self, text: &str) -> Result<Context, ContextError> {
        self.policy.context(text)
    }

    /// A label in words, its type and level alone: user and role decide little.
    #[must_use]
    pub fn short(&self, label: &Context) -> String {
        let text = self.text(label);
        text.splitn(3, ':').nth(2).map(str::to_owned).unwrap_or(text)
    }

    /// A label in words; a drawn level by whose it is.
    #[must_use]
    pub fn text(&self, label: &Context) -> String {
        let text = self.policy.text(label);
        let pair = self.pairs.iter().find(|pair| pair.range == label.range);
        let of =
            pair.map(|pair| &*pair.of).or_else(|| self.is_drawn(&label.range).then_some("another container"));
        let Some(of) = of else { return text };
        let level = self.policy.range_text(&label.range);
        let sensitivity = level.split(':').next().unwrap_or_default();
        let named = format!("{sensitivity}:(own pair of {of})");
        text.strip_suffix(&level).map(|before| format!("{before}{named}")).unwrap_or(text)
    }

    /// Whether a level stands for one that an engine draws: two categories that nobody told.
    pub(crate) fn is_drawn(&self, range: &Range) -> bool {
        let Some(named) = &self.named else { return false };
        let categories = &range.low.categories;
        range.low == range.high
            && categories.iter().count() == 2
            && !categories.iter().any(|one| named.contains(&one))
    }
}
