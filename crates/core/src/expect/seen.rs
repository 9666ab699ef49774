//! The files behind paths, and where others see the same ones.

use std::collections::{BTreeMap, BTreeSet};

use mivask_model::act::Verb;
use mivask_model::mode::FileKind;
use mivask_model::mount::{MountOrigin, SourceId};
use mivask_model::path::{or_root, parent, trimmed};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Role, Stage};

use super::meet::{Meeting, Met, Object, add};
use crate::question::facts_at;

/// An inode, whichever source shows it.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Same {
    /// One that the disk has for everyone.
    Given(Object),
    /// A directory that the preparation of a workload makes: the same for all that make one there.
    Made(SourceId, Vec<u8>),
}

/// What some actors see at the paths that are meant.
pub(super) struct Seen<'s> {
    stage: &'s Stage,
    /// For each source, the first that shows the same disk.
    disks: BTreeMap<SourceId, SourceId>,
    objects: BTreeSet<Same>,
    /// Names that are missing or not listed, by the directory they would be in.
    names: BTreeMap<Same, BTreeMap<Vec<u8>, Met>>,
}

impl<'s> Seen<'s> {
    /// Nothing yet.
    pub(super) fn new(stage: &'s Stage) -> Self {
        let disks = stage.source_ids().zip(stage.storage.disks());
        Self { stage, disks: disks.collect(), objects: BTreeSet::new(), names: BTreeMap::new() }
    }

    fn disk(&self, source: SourceId) -> SourceId {
        self.disks.get(&source).copied().unwrap_or(source)
    }

    fn object(&self, (source, inode): Object) -> Same {
        let shown = self.stage.source(source);
        let given = shown.facts.disk.as_ref().map_or(usize::MAX, |disk| disk.given);
        if usize::try_from(inode.number()).is_ok_and(|number| number < given) {
            Same::Given((self.disk(source), inode))
        } else if shown.tree.inode(inode).kind == FileKind::Directory {
            Same::Made(self.disk(source), shown.tree.path_of(inode))
        } else {
            // A mount point: whoever made it sees what is mounted there.
            Same::Given((source, inode))
        }
    }

    /// Adds what `actor` sees at `path`.
    pub(super) fn add(&mut self, actor: &Actor, path: &[u8], met: Met) {
        if let Some(object) = met.object {
            self.objects.insert(self.object(object));
            return;
        }
        let directory = or_root(parent(path));
        if let Ok(Sight::There(place)) = look(&self.stage.storage, &actor.mounts, directory, Follow::Links)
            && let Some(id) = place.inode
        {
            let path = trimmed(path);
            let name = path.iter().rposition(|byte| *byte == b'/').map_or(path, |at| &path[at + 1..]);
            let directory = self.object((place.source, id));
            self.names.entry(directory).or_default().insert(name.to_vec(), met);
        }
    }

    /// Where another actor sees the same.
    pub(super) fn by(&self, actor: &Actor, verb: &Verb) -> Meeting {
        let stage = self.stage;
        let disk = |same: &Same| match same {
            Same::Given((source, _)) | Same::Made(source, _) => *source,
        };
        let sources: BTreeSet<SourceId> = self.objects.iter().chain(self.names.keys()).map(disk).collect();
        let mut meeting = Meeting::default();
        let mut directories = Meeting::default();
        // Nothing of the host's was declared to people on it.
        let declared = |origin| origin == MountOrigin::Declared || actor.role == Role::Person;
        for (_, mount) in actor.mounts.iter().filter(|(_, mount)| declared(mount.origin)) {
            let source = mount.variants[0].source;
            let Some(root) = mount.root else { continue };
            if !sources.contains(&self.disk(source)) {
                continue;
            }
            let kind = facts_at(stage, actor, &mount.facts.at).map(|facts| facts.kind);
            let met = Met { kind, ending: None, object: Some((source, root)), deep: false };
            if self.objects.contains(&self.object((source, root))) {
                meeting.insert(mount.facts.at.to_vec(), met);
            }
            directories.insert(mount.facts.at.to_vec(), met);
            add(
                stage,
                actor,
                Some(verb),
                &mount.facts.at,
                &|swept| {
                    swept
                        .place
                        .inode
                        .is_some_and(|inode| self.objects.contains(&self.object((swept.place.source, inode))))
                },
                &mut meeting,
            );
            add(
                stage,
                actor,
                None,
                &mount.facts.at,
                &|swept| swept.kind == FileKind::Directory,
                &mut directories,
            );
        }
        for (path, met) in directories.at {
            let disk = met.object.map(|object| self.object(object));
            let names = disk.and_then(|object| self.names.get(&object));
            for (name, unlisted) in names.into_iter().flatten() {
                meeting.insert([trimmed(&path), b"/", name.as_slice()].concat(), *unlisted);
            }
        }
        meeting
    }
}
