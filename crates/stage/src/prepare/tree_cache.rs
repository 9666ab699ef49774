//! What containers have in common, made once.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use mivask_model::mount::{MountTable, Preparation, SourceFacts};
use mivask_model::refusal::Refusal;
use mivask_model::tree::Tree;

use super::context::Context;
use super::host_actor;
use super::joined::Lenders;
use super::prepared::Prepared;
use super::shared::Shared;
use crate::scene::{Container, Scene};
use crate::stage::Stage;

/// Trees and words that are the same in every container, made once.
#[derive(Debug, Default)]
pub(super) struct TreeCache {
    trees: BTreeMap<String, Arc<Tree>>,
    words: BTreeSet<Arc<str>>,
    /// What containers may have together: by whose it is, nobody's where it is the pod's, and by its name.
    pub(super) joined: BTreeMap<(String, String), Prepared>,
    pub(super) lenders: Lenders,
    /// What people on the host see.
    host: Option<MountTable>,
    pub(super) facts: BTreeMap<(Arc<str>, Option<String>), Arc<SourceFacts>>,
    pub(super) unprepared: Arc<Preparation>,
    shared: Shared,
}

impl TreeCache {
    /// Forgets what belongs to one workload.
    pub(super) fn next_workload(&mut self) {
        self.joined.clear();
        self.lenders = Lenders::default();
        self.host = None;
    }

    /// Lets a container's mounts hold what those of another one hold that is equal.
    pub(super) fn share(&mut self, stage: &mut Stage, table: &mut MountTable) {
        self.shared.share(stage, table);
    }

    /// The host's own mounts, the same for everybody there.
    pub(super) fn host_mounts(&mut self, stage: &mut Stage, scene: &Scene) -> MountTable {
        self.host.get_or_insert_with(|| host_actor::mounts(stage, scene)).clone()
    }

    /// Why `container` cannot have what it asks another one for.
    pub(super) fn joins(&mut self, context: &Context<'_>, container: &Container) -> Option<Refusal> {
        self.lenders.next(context, container)
    }

    pub(super) fn word(&mut self, word: &str) -> Arc<str> {
        if let Some(known) = self.words.get(word) {
            return known.clone();
        }
        let new: Arc<str> = Arc::from(word);
        self.words.insert(new.clone());
        new
    }

    pub(super) fn tree(&mut self, key: String, make: impl FnOnce() -> Tree) -> Arc<Tree> {
        self.trees.entry(key).or_insert_with(|| Arc::new(make())).clone()
    }
}
