//! Labels in a rehearsal: an engine that is started with another option labels what is there, new files among them.

use std::sync::Arc;

use mivask_model::mount::{Mount, MountTable, SourceId};
use mivask_model::tree::{InodeId, Tree};
use mivask_stage::stage::Stage;

/// What a mount shows: a source, from this inode down.
pub(super) type Shown = (SourceId, InodeId);

/// Takes what an engine makes of labels from the same mounts of `model`, and tells whose labels are other ones then.
pub(super) fn take_relabelled(mounts: &mut MountTable, model: &MountTable) -> Vec<Shown> {
    let mut anew = Vec::new();
    let mut models = model.iter();
    mounts.change(|_, mount| {
        let Some((_, model)) = models.next() else { return };
        let same = mount.facts.at == model.facts.at;
        if same && mount.facts.relabelled != model.facts.relabelled {
            Arc::make_mut(&mut mount.facts).relabelled = model.facts.relabelled;
            anew.extend(shown(mount));
        }
    });
    anew
}

/// What an engine labels when it starts a container: all that is mounted so, as it did before.
pub(super) fn labelled_at_start(mounts: &MountTable) -> Vec<Shown> {
    let labelled = mounts.iter().map(|(_, mount)| mount).filter(|mount| mount.facts.relabelled.is_some());
    labelled.flat_map(shown).collect()
}

fn shown(mount: &Mount) -> Vec<Shown> {
    let root = mount.root.unwrap_or(Tree::ROOT);
    mount.variants.iter().map(|variant| (variant.source, root)).collect()
}

/// What acts made there has the label that the engine gives it from then on.
pub(super) fn label_all(stage: &mut Stage, all: &[Shown]) {
    for (source, top) in all {
        let tree = Arc::make_mut(&mut stage.storage.source_mut(*source).tree);
        let made = |id: &_| tree.extended(*id).is_some_and(|extended| extended.labelled_since);
        for id in tree.below(*top).into_iter().filter(made).collect::<Vec<_>>() {
            let label = tree.extended(id).and_then(|extended| extended.label.clone());
            tree.set_label(id, label, false);
        }
    }
}

/// Nobody knows the label any more of what acts made: the levels in them stand for those of others.
pub(super) fn forget_all(stage: &mut Stage) {
    for source in stage.source_ids() {
        if !stage.source(source).tree.labels().any(|label| !label.is_empty()) {
            continue;
        }
        let tree = Arc::make_mut(&mut stage.storage.source_mut(source).tree);
        let made = |id: &_| tree.extended(*id).is_some_and(|extended| extended.labelled_since);
        let all: Vec<_> = tree.ids().filter(made).collect();
        all.into_iter().for_each(|id| tree.set_label(id, None, true));
    }
}
