//! Labels in a rehearsal: an engine that is started with another option labels what is there, new files among them.

use std::sync::Arc;

use mivask_model::mount::{MountTable, SourceId};
use mivask_stage::stage::Stage;

/// Takes what an engine makes of labels from the same mounts of `model`, and tells whose labels are other ones then.
pub(super) fn take_relabelled(mounts: &mut MountTable, model: &MountTable) -> Vec<SourceId> {
    let mut anew = Vec::new();
    for (mount, (_, model)) in mounts.iter_mut().zip(model.iter()) {
        let same = mount.facts.at == model.facts.at;
        if same && mount.facts.relabelled != model.facts.relabelled {
            Arc::make_mut(&mut mount.facts).relabelled = model.facts.relabelled;
            anew.extend(mount.variants.iter().map(|variant| variant.source));
        }
    }
    anew
}

/// What acts made there has the label that the engine gives it from then on.
pub(super) fn label_all(stage: &mut Stage, sources: &[SourceId]) {
    for source in sources {
        let tree = Arc::make_mut(&mut stage.storage.source_mut(*source).tree);
        let made = |id: &_| tree.extended(*id).is_some_and(|extended| extended.labelled_since);
        let all: Vec<_> = tree.ids().filter(made).collect();
        for id in all {
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
