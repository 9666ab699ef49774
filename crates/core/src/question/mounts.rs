//! The mount table each actor sees.

use std::sync::Arc;

use mivask_model::fact::{Provenance, Unknown};
use mivask_model::ids::{DiskOwner, InsideGid, InsideUid, MountIds, OVERFLOW_ID};
use mivask_model::labels::Relabelled;
use mivask_model::mount::{Mount, MountFlags, MountId, MountOrigin, RootFacts};
use mivask_model::mount_kind::MountKind;
use mivask_model::refusal::Refusal;
use mivask_model::unmodelled::Touches;
use mivask_rules::lookup::label_at;
use mivask_rules::view::Place;
use mivask_stage::stage::{Actor, Stage};

/// One mount of one actor.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct MountRow {
    /// The actor's name.
    pub actor: String,
    /// The path inside.
    pub at: Vec<u8>,
    /// What is mounted, such as `claim readings`.
    pub source: Arc<str>,
    /// The kind of volume, such as `emptyDir`.
    pub kind: MountKind,
    /// Its filesystem type, where it is known.
    pub filesystem: Option<Arc<str>>,
    /// The mount's flags.
    pub flags: MountFlags,
    /// Whether its ids are mapped.
    pub id_mapped: bool,
    /// Owner, group and mode of what shows there; `None` where it is unknown.
    pub root: Option<RootFacts>,
    /// Owner and group of that as the actor sees them, where they are other numbers; 65534 for an id without a mapping.
    pub inside: Option<(InsideUid, InsideGid)>,
    /// The label of what shows there: `None` where SELinux does not decide, `Some(None)` where nobody told it.
    pub label: Option<Option<String>>,
    /// What the engine made of the labels below it, if anything.
    pub relabelled: Option<Relabelled>,
    /// The same before it was prepared, where that changed it.
    pub prepared_from: Option<RootFacts>,
    /// How many inodes the filesystem-group step changes.
    pub touches: usize,
    /// What the preparation did, a sentence each.
    pub notes: Vec<Arc<str>>,
    /// The fact that is missing, where several preparations are possible.
    pub question: Option<Unknown>,
    /// Who put the mount there.
    pub origin: MountOrigin,
    /// Where it was asked for.
    pub from: Provenance,
    /// Why the actor never runs; the mounts are what it would have.
    pub refusal: Option<Refusal>,
}

impl MountRow {
    /// Whether no one asked for it, but the runtime mounts it all the same.
    #[must_use]
    pub const fn is_default(&self) -> bool {
        matches!(self.origin, MountOrigin::Default | MountOrigin::Shield)
    }
}

/// The label of what shows at the mount `number`.
fn label(stage: &Stage, actor: &Actor, number: MountId) -> Option<Option<String>> {
    let who = actor.credentials.first()?;
    let mount = actor.mounts.get(number);
    let place = Place { mount: number, source: mount.variants[0].source, inode: mount.root };
    label_at(&stage.view(actor, who, &actor.name), place)
}

/// The mounts of `actor`, the root first, in the order they are made.
#[must_use]
pub fn mounts(stage: &Stage, actor: &Actor) -> Vec<MountRow> {
    let name = actor.name.to_string();
    actor
        .mounts
        .iter()
        .map(|(number, mount)| {
            let first = &mount.variants[0];
            let source = stage.source(first.source);
            let single = mount.variants.len() == 1;
            let known = mount.root.filter(|id| {
                let doubt = source.tree.doubt(*id);
                single && doubt.is_none_or(|doubt| doubt.unknown_attribute().is_none())
            });
            let root = known.map(|id| {
                let inode = source.tree.inode(id);
                RootFacts {
                    uid: inode.stored_owner().uid.raw(),
                    gid: inode.stored_owner().gid.raw(),
                    mode: inode.stored_mode(),
                }
            });
            let inside = known.and_then(|id| inside(actor, mount, source.tree.inode(id).stored_owner()));
            let notes = mount.variants.iter().flat_map(|variant| &variant.preparation.notes).cloned();
            MountRow {
                actor: name.clone(),
                at: mount.facts.at.to_vec(),
                source: mount.facts.label.clone().unwrap_or_else(|| source.facts.name.clone()),
                kind: mount.facts.kind.clone(),
                filesystem: source.facts.filesystem.clone(),
                flags: mount.flags,
                id_mapped: mount.facts.ids != MountIds::default(),
                root,
                inside,
                label: label(stage, actor, number),
                relabelled: mount.facts.relabelled,
                prepared_from: first.preparation.before.filter(|before| Some(*before) != root),
                touches: if single { first.preparation.touches } else { 0 },
                notes: notes.collect(),
                question: mount.facts.question.clone(),
                origin: mount.origin,
                from: mount.facts.from.clone(),
                refusal: actor.refusal().cloned(),
            }
        })
        .collect()
}

/// What the actor sees of an owner on the disk, where that is another one.
fn inside(actor: &Actor, mount: &Mount, owner: DiskOwner) -> Option<(InsideUid, InsideGid)> {
    if actor.unmodelled.iter().any(|one| one.touches == Touches::Ids) {
        return None;
    }
    let namespace = &actor.credentials.first()?.namespace;
    let ids = &mount.facts.ids;
    let uid = ids.to_kernel_uid(owner.uid).and_then(|uid| namespace.to_inside_uid(uid));
    let gid = ids.to_kernel_gid(owner.gid).and_then(|gid| namespace.to_inside_gid(gid));
    let uid = uid.unwrap_or(InsideUid::new(OVERFLOW_ID));
    let gid = gid.unwrap_or(InsideGid::new(OVERFLOW_ID));
    (uid.raw() != owner.uid.raw() || gid.raw() != owner.gid.raw()).then_some((uid, gid))
}
