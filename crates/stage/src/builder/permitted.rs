//! Whether the kernel lets the user of a build command do what it does.

use std::sync::Arc;

use mivask_model::act::Verb;
use mivask_model::credentials::Credentials;
use mivask_model::fact::Unknown;
use mivask_model::held::Held;
use mivask_model::ids::{KernelOwner, UserNamespace};
use mivask_model::mount::{Mount, MountTable, Source, SourceFacts};
use mivask_model::mount_kind::MountKind;
use mivask_model::outcome::Errno;
use mivask_model::storage::Storage;
use mivask_model::tree::Tree;
use mivask_rules::decide::decide;
use mivask_rules::lookup::root_credentials;
use mivask_rules::view::Devices;
use mivask_rules::view::View;
use mivask_rules::witness::Unwatched;

use super::ground::{BuildState, Number};
use crate::recipe::BuildStep;

impl BuildState<'_> {
    /// Whether the user of the build may do that; root may do everything. The command fails where it is refused.
    pub(super) fn permitted(
        &mut self,
        verb: &Verb,
        path: &[u8],
        runner: &(Number, Number),
        step: &BuildStep,
    ) -> bool {
        let (Ok(uid), Ok(gid)) = runner else {
            self.assume(format!("the user of the build may do `{}`", step.words));
            return true;
        };
        if *uid == 0 || self.failure.is_some() {
            return true;
        }
        let tree = std::mem::replace(&mut self.tree, Tree::unknown(&Unknown::new("", "")));
        let groups = self.memberships();
        let (errno, tree) = judged(tree, verb, path, (KernelOwner::new(*uid, *gid), &groups));
        self.tree = tree;
        let Ok(errno) = errno else {
            self.assume(format!("user {uid} may do `{}`", step.words));
            return true;
        };
        if let Some(errno) = errno {
            let why = format!("user {uid} is refused: {errno} ({})", errno.meaning());
            self.fail(&step.words, &why, &step.from);
        }
        errno.is_none()
    }
}

/// What no one knows of a tree decides.
struct NotKnown;

/// The errno that keeps `owner` from acting on the tree; `None` where nothing does.
fn judged(
    tree: Tree,
    verb: &Verb,
    path: &[u8],
    (owner, groups): (KernelOwner, &[u32]),
) -> (Result<Option<Errno>, NotKnown>, Tree) {
    let mut storage = Storage::default();
    let tree = Arc::new(tree);
    let facts = SourceFacts::local("the image being built");
    let source = storage.add_source(Source::new(tree.clone(), facts));
    let from = tree.origin().clone();
    let mut table = MountTable::default();
    table.push(Mount::root(source, MountKind::Image, from));
    let none = mivask_model::caps::CapabilitySet::EMPTY;
    let mut sorted: Vec<_> =
        groups.iter().map(|gid| KernelOwner::new(0, *gid).gid).chain([owner.gid]).collect();
    sorted.sort_unstable();
    let who = Credentials {
        real: None,
        fsuid: Held::Id(owner.uid),
        fsgid: Held::Id(owner.gid),
        groups: sorted.into(),
        effective: none,
        permitted: none,
        namespace: Arc::new(UserNamespace::initial()),
        ..root_credentials()
    };
    let mut unwatched = Unwatched::default();
    let view = View::new(&storage, &table, &who, "the build", Devices::Listed);
    let verdict = decide(&view, verb, path, &mut unwatched);
    let errno = if unwatched.met_unknown { Err(NotKnown) } else { Ok(verdict.err()) };
    drop(storage);
    (errno, Arc::unwrap_or_clone(tree))
}
