//! What containers of one image and runtime have in common is held once, however many there are.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

use mivask_model::mount::{Mount, MountFacts, MountOrigin, MountTable, Source, SourceFacts};
use mivask_model::tree::Tree;

use crate::stage::Stage;

/// How many trees of one name are kept in mind: containers of an image differ in the mount points that were made in it.
const MOST_TREES: usize = 8;

/// Equal parts of the containers so far.
#[derive(Debug, Default)]
pub(super) struct Shared {
    /// The newest default mount at each path.
    mounts: BTreeMap<Arc<[u8]>, Arc<MountFacts>>,
    /// By the names of sources.
    sources: BTreeMap<Arc<str>, Sources>,
}

#[derive(Debug, Default)]
struct Sources {
    facts: Option<Arc<SourceFacts>>,
    /// The newest first.
    trees: VecDeque<Arc<Tree>>,
}

impl Shared {
    /// Lets the mounts of a container and their sources hold what those of an earlier one hold that is equal. The trees are
    /// equal, the disks are not: a container changes its own.
    pub(super) fn share(&mut self, stage: &mut Stage, table: &mut MountTable) {
        table.change(|_, mount| {
            if matches!(mount.origin, MountOrigin::Default | MountOrigin::Shield) {
                self.mount(mount);
            }
            for variant in &mount.variants {
                self.source(stage.storage.source_mut(variant.source));
            }
        });
    }

    fn mount(&mut self, mount: &mut Mount) {
        match self.mounts.get_mut(&mount.facts.at) {
            Some(known) if **known == *mount.facts => mount.facts = known.clone(),
            Some(known) => *known = mount.facts.clone(),
            None => {
                self.mounts.insert(mount.facts.at.clone(), mount.facts.clone());
            }
        }
    }

    fn source(&mut self, source: &mut Source) {
        let known = self.sources.entry(source.facts.name.clone()).or_default();
        match &known.facts {
            Some(facts) if **facts == *source.facts => source.facts = facts.clone(),
            Some(_) | None => known.facts = Some(source.facts.clone()),
        }
        let trees = &mut known.trees;
        match trees.iter().position(|tree| Arc::ptr_eq(tree, &source.tree) || **tree == *source.tree) {
            Some(at) => source.tree = trees[at].clone(),
            None => {
                trees.truncate(MOST_TREES - 1);
                trees.push_front(source.tree.clone());
            }
        }
    }
}
