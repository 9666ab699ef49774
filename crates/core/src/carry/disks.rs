//! The sources that show one disk: what is changed on one of them is changed on all.

use std::sync::Arc;

use mivask_model::fact::Provenance;
use mivask_model::mount::{MountTable, SourceId};
use mivask_model::tree::{Entry, Tree, TreeError};
use mivask_rules::view::Place;
use mivask_stage::stage::Stage;

/// Sources of one disk, grouped by the tree they share.
pub(crate) struct Disks(Vec<Vec<SourceId>>);

impl Disks {
    /// Every source behind the mount of `place`: one for each possibility, and those that show the same tree under
    /// another file system's rules. They number their inodes alike.
    pub(crate) fn behind(stage: &Stage, table: &MountTable, place: Place) -> Self {
        let variants = table.get(place.mount).variants.iter().map(|variant| variant.source);
        let mut groups: Vec<Vec<SourceId>> = Vec::new();
        for source in variants.chain([place.source]) {
            if groups.iter().any(|group| group.contains(&source)) {
                continue;
            }
            let tree = &stage.source(source).tree;
            // The same tree alone says nothing: containers of one image begin with the same files.
            let same = |other: &SourceId| {
                Arc::ptr_eq(&stage.source(*other).tree, tree) && stage.storage.on_one_disk(*other, source)
            };
            groups.push(stage.source_ids().filter(same).collect());
        }
        Self(groups)
    }

    /// Changes each tree once.
    ///
    /// # Errors
    /// The first change that a tree refuses.
    pub(crate) fn apply(
        &self,
        stage: &mut Stage,
        mut change: impl FnMut(&mut Tree) -> Result<(), TreeError>,
    ) -> Result<(), TreeError> {
        for group in &self.0 {
            let Some((first, others)) = group.split_first() else { continue };
            // Whoever shares the tree lets go of it first, so that it is not copied for each change.
            let nothing = Arc::new(Tree::new(Entry::directory(0, 0, 0), Provenance::rule("nothing yet")));
            for other in others {
                stage.storage.source_mut(*other).tree = nothing.clone();
            }
            let changed = change(Arc::make_mut(&mut stage.storage.source_mut(*first).tree));
            let tree = stage.source(*first).tree.clone();
            for other in others {
                stage.storage.source_mut(*other).tree = tree.clone();
            }
            changed?;
        }
        Ok(())
    }
}
