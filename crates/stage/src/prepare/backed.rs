//! Volumes with a file system of their own: claims, and what pods describe inline.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::fact::{Provenance, Unknown};
use mivask_model::ids::DiskOwner;
use mivask_model::mode::FileKind;
use mivask_model::mode::Mode;
use mivask_model::mount::{Disk, MountFlags, Source, SourceFacts};
use mivask_model::mount_kind::MountKind;
use mivask_model::personality::Personality;
use mivask_model::tree::{Certainty, Doubt, Entry, Tree};
use mivask_model::usual::{Usual, UsualRule};

use super::asked::Asked;
use super::context::Context;
use super::fs_group::Policy;
use super::group_step::{Case, READ_ONLY, Reach, is_for_one_node, reach};
use super::group_variants::{GroupSteps, Step, rivals, stepped, with_steps};
use super::host_path;
use super::kubelet_labels;
use super::nested;
use super::prepared::Prepared;
use crate::cluster::Backing;
use crate::scene::{HostPathCheck, Volume, VolumeFacts, VolumeKind, Workload};
use crate::stage::{Role, Stage};

/// `persistentVolumeClaim`: the volume bound to it, or what its class would give.
pub(super) fn claim(
    stage: &mut Stage,
    context: &Context<'_>,
    claim: &str,
    read_only: bool,
    from: &Provenance,
) -> Prepared {
    let cluster = &context.scene.cluster;
    // A bound volume says more than its class, which only says how the next one would be made.
    let (told, bound) = cluster.bound(&context.workload.namespace, claim);
    let name = format!("claim {claim}");
    let mut asked = Asked { read_only, ..Asked::new(claim, &name, MountKind::Claim, from) };
    if let Some(volume) = bound {
        asked.backing = Some(&volume.backing);
        asked.access_modes = Some(&volume.access_modes);
        asked.flags = volume.flags;
        asked.personality.clone_from(&volume.personality);
        asked.block = volume.block;
        asked.labels = Some(&volume.labels);
        return prepare(stage, context, &asked);
    }
    let class = told.and_then(|told| told.class.as_ref()).and_then(|class| cluster.classes.get(class));
    let backing = class.map(|class| provisioned(&class.provisioner, class.fs_type.as_deref()));
    asked.backing = backing.as_ref();
    asked.access_modes = told.map(|told| &told.access_modes);
    asked.new = told.is_some_and(|told| told.new);
    asked.flags = class.map_or(MountFlags::NONE, |class| class.flags);
    asked.labels = class.map(|class| &class.labels);
    prepare(stage, context, &asked)
}

/// `ephemeral`: a claim made with the pod, so new and empty unless given otherwise.
pub(super) fn ephemeral(
    stage: &mut Stage,
    context: &Context<'_>,
    claim: &str,
    class: Option<&str>,
    access_modes: &[String],
    from: &Provenance,
) -> Prepared {
    let class = class.and_then(|class| context.scene.cluster.classes.get(class));
    let backing = class.map(|class| provisioned(&class.provisioner, class.fs_type.as_deref()));
    let modes: BTreeSet<String> = access_modes.iter().cloned().collect();
    let name = format!("claim {claim}");
    let asked = Asked {
        backing: backing.as_ref(),
        access_modes: Some(&modes),
        flags: class.map_or(MountFlags::NONE, |class| class.flags),
        labels: class.map(|class| &class.labels),
        new: true,
        ..Asked::new(claim, &name, MountKind::Ephemeral, from)
    };
    prepare(stage, context, &asked)
}

/// The volume as the processes will see it.
pub(super) fn prepare(stage: &mut Stage, context: &Context<'_>, asked: &Asked<'_>) -> Prepared {
    let facts = context.scene.claim(&context.workload.namespace, asked.key);
    // Outside a cluster no kubelet walks the volume; a scene may still say that somebody does.
    let group = if asked.plain && facts.is_none_or(|facts| facts.group_ownership.is_none()) {
        None
    } else {
        group(context.workload)
    };
    let mut ready = match (asked.backing, facts) {
        (Some(Backing::HostPath { path, check }), None) => host(stage, context, asked, path, *check),
        (Some(Backing::Local { path }), None) => {
            let ready = local(stage, context, asked, path, group.as_ref());
            Prepared { relabelled: kubelet_labels::of_local(context, asked), ..ready }
        }
        _ => stored(stage, context, asked, facts, group.as_ref()),
    };
    ready.flags = ready.flags.with(asked.flags);
    if asked.read_only {
        ready.flags = ready.flags.with(MountFlags::READ_ONLY);
    }
    ready
}

/// The filesystem group with its policy, where the workload has one.
fn group(workload: &Workload) -> Option<Step> {
    let security = &workload.security;
    let policy = Policy::of(security.on_root_mismatch.as_ref().is_some_and(|fact| fact.value));
    Some(Step { group: security.fs_group.clone()?, policy })
}

/// A volume that is a part of the host's tree.
fn host(
    stage: &mut Stage,
    context: &Context<'_>,
    asked: &Asked<'_>,
    path: &[u8],
    check: HostPathCheck,
) -> Prepared {
    let kind = &asked.kind;
    let from = asked.from;
    let creator = context.creator;
    let waits = true;
    let wanted = host_path::Wanted { path, check, kind, from, creator, waits };
    host_path::prepare(stage, context, &wanted)
}

/// A local volume: a directory of the host without the mounts below it (docs/facts/kubelet.md section 7), which gets the
/// filesystem group there.
fn local(
    stage: &mut Stage,
    context: &Context<'_>,
    asked: &Asked<'_>,
    path: &[u8],
    group: Option<&Step>,
) -> Prepared {
    let mut ready = host(stage, context, asked, path, HostPathCheck::Directory);
    // The kubelet binds a local volume without rbind.
    nested::leave_behind(stage, &mut ready);
    if ready.blocked.is_some() {
        return ready;
    }
    let others = if asked.kind == MountKind::Claim { rivals(context, asked.key, group) } else { Vec::new() };
    let Some(top) = ready.root else { return ready };
    if others.is_empty() {
        let Some(step) = group else { return ready };
        if asked.read_only {
            ready.note(READ_ONLY);
            return ready;
        }
        let variant = &mut ready.variants[0];
        let tree = Arc::make_mut(&mut stage.storage.source_mut(variant.source).tree);
        let report = stepped(tree, top, step);
        let preparation = Arc::make_mut(&mut variant.preparation);
        preparation.touches = report.touched;
        preparation.notes.extend(report.note);
        return ready;
    }
    // Each possibility has a copy of the host's tree: which step was first decides for every pod on it.
    let base = stage.source(ready.variants[0].source).clone();
    let disk = disk(context, asked, &base.tree);
    let base = base.with(|facts| (facts.name, facts.disk) = (Arc::from(asked.name), Some(disk)));
    let reach = || if asked.read_only { Reach::No(Arc::from(READ_ONLY)) } else { Reach::Yes };
    let steps = GroupSteps { own: group.map(|step| (step, reach())), others, others_reach: true };
    let stepped = with_steps(stage, base, asked.kind.clone(), top, &steps);
    Prepared { variants: stepped.variants, question: stepped.question, ..ready }
}

/// What tells that the sources of several pods are one disk.
fn disk(context: &Context<'_>, asked: &Asked<'_>, tree: &Tree) -> Disk {
    let name = format!("{} {}/{}", asked.kind, context.workload.namespace, asked.key);
    Disk { name: name.into(), given: tree.len() }
}

/// A volume with a tree of its own.
fn stored(
    stage: &mut Stage,
    context: &Context<'_>,
    asked: &Asked<'_>,
    facts: Option<&VolumeFacts>,
    group: Option<&Step>,
) -> Prepared {
    let name = asked.name;
    let key = asked.key;
    let settle = format!("give `volumes: {{ {key}: {{ tree: ... }} }}` in a scene file");
    let told_type = facts.and_then(|facts| facts.filesystem.as_ref()).map(|told| told.value.as_str());
    let filesystem = told_type.or_else(|| asked.backing.and_then(Backing::filesystem));
    // What the scene says of the file system comes before what the cluster's objects say, and both before its name
    // alone.
    let personality = match (facts.filter(|facts| facts.filesystem.is_some()), &asked.personality, filesystem)
    {
        (Some(facts), ..) => facts.personality.clone(),
        (None, Some(personality), _) => personality.clone(),
        (None, None, Some(filesystem)) => Personality::of(filesystem).unwrap_or_default(),
        (None, None, None) => facts.map(|facts| facts.personality.clone()).unwrap_or_default(),
    };
    let personality = with_group_option(personality, asked, group);
    let usual = usual(asked, filesystem).filter(|_| !is_seeded(context.workload, key));
    let unknown = || Unknown::new(&format!("what {name} holds"), &settle).usually(usual.clone());
    let known = filesystem.is_some()
        || asked.personality.is_some()
        || facts.is_some_and(|facts| facts.tree.is_some());
    let taken = usual.as_deref().filter(|_| context.scene.as_usual);
    let told = facts.and_then(|facts| facts.tree.clone()).or_else(|| taken.map(new_tree));
    let tree = personal_tree(told, &personality, unknown);
    let disk = disk(context, asked, &tree);
    let source_facts = SourceFacts {
        filesystem: filesystem.map(Arc::from),
        disk: Some(disk),
        labels: kubelet_labels::of_volume(context, asked, (facts, filesystem)),
        read_only: facts.is_some_and(|facts| facts.read_only_filesystem) || personality.is_read_only(),
        personality,
        native: match taken {
            _ if known => Certainty::Known,
            Some(usual) => Certainty::Assumed(usual.assumption()),
            None => of_unknown_type(name, &settle, usual.clone()),
        },
        ..SourceFacts::local(name)
    };
    let base = Source::new(tree, source_facts);
    if let Some(usual) = taken {
        stage.take_usual(name, usual.clone());
    }
    let told = facts.and_then(|facts| facts.group_ownership.as_ref()).map(|fact| fact.value);
    let reach = |read_only: bool| reached(context, asked, told, read_only);
    let mut steps = GroupSteps::default();
    if let Some(own) = group {
        steps.own = Some((own, reach(asked.read_only)));
        if let Some(usual) = usually_reached(context, asked, told) {
            stage.take_usual(name, usual);
        }
    }
    if asked.kind == MountKind::Claim && !matches!(reach(false), Reach::No(_)) {
        steps.others = rivals(context, key, group);
        steps.others_reach = matches!(reach(false), Reach::Yes);
    }
    let mut prepared = with_steps(stage, base, asked.kind.clone(), Tree::ROOT, &steps);
    prepared.flags = facts.map_or(MountFlags::NONE, |facts| facts.flags);
    prepared
}

/// Of what nobody knows the file system.
fn of_unknown_type(name: &str, settle: &str, usual: Option<Arc<Usual>>) -> Certainty {
    let fact = format!("the file system of {name}");
    Certainty::Unknown(Unknown::new(&fact, settle).usually(usual))
}

/// Whether an init container has the claim, too: it is there to change what the others find.
fn is_seeded(workload: &Workload, claim: &str) -> bool {
    let of_claim =
        |volume: &&Volume| matches!(&volume.kind, VolumeKind::Claim { claim: own, .. } if own == claim);
    let names: Vec<&String> =
        workload.volumes.iter().filter(of_claim).map(|volume| &volume.name.value).collect();
    let inits = workload.containers.iter().filter(|container| container.role == Role::Init);
    inits.flat_map(|container| &container.mounts).any(|mount| names.contains(&&mount.volume.value))
}

/// What a new claim holds.
fn new_tree(usual: &Usual) -> Arc<Tree> {
    let text = usual.assumption();
    let doubt = Doubt::new(Certainty::Assumed(text.clone()), Certainty::Assumed(text.clone()));
    let root = Entry::directory(0, 0, 0o755).doubting(doubt);
    Arc::new(Tree::new(root, Provenance::Assumption(text)))
}

/// Whether the filesystem group is applied; `told` is what the scene says of it.
fn reached(context: &Context<'_>, asked: &Asked<'_>, told: Option<bool>, read_only: bool) -> Reach {
    match told {
        // A reference that is read-only is never stepped, whatever the volume would allow.
        Some(true) if !read_only => return Reach::Yes,
        Some(false) => return Reach::No(Arc::from("the filesystem group is not applied to this volume")),
        Some(true) | None => {}
    }
    if read_only || usually_reached(context, asked, told).is_none() {
        return reach_of(context, asked, read_only);
    }
    Reach::Yes
}

fn reach_of(context: &Context<'_>, asked: &Asked<'_>, read_only: bool) -> Reach {
    let Asked { name, backing, access_modes, block, new, .. } = *asked;
    reach(&Case { name, backing, access_modes, read_only, block, new }, &context.scene.cluster)
}

/// That the filesystem group is applied, where nobody says so, it usually is, and that is to be taken.
fn usually_reached(context: &Context<'_>, asked: &Asked<'_>, told: Option<bool>) -> Option<Usual> {
    if !context.scene.as_usual || asked.read_only || told.is_some() {
        return None;
    }
    match reach_of(context, asked, false) {
        Reach::Open(unknown) => unknown.usual.as_deref().cloned(),
        Reach::Yes | Reach::No(_) => None,
    }
}

/// What a claim that comes with its description usually holds: nothing, on a block device that is used on one node at a time.
fn usual(asked: &Asked<'_>, filesystem: Option<&str>) -> Option<Arc<Usual>> {
    let native = filesystem.is_none_or(|name| matches!(name, "ext4" | "xfs" | "btrfs" | "ext3"));
    let disk = matches!(asked.backing, None | Some(Backing::Csi { .. } | Backing::Disk { .. }));
    let usual =
        asked.new && disk && native && asked.personality.is_none() && is_for_one_node(asked.access_modes);
    let says = || format!("{} is new and empty, on a disk, its root 0:0 0755", asked.name);
    let leaves = Some((DiskOwner::new(0, 0), Mode::new(0o755)));
    usual.then(|| Arc::new(Usual { leaves, ..Usual::new(UsualRule::NewClaim, &says()) }))
}

/// azureFile gets the filesystem group as a mount option instead of a walk.
fn with_group_option(mut personality: Personality, asked: &Asked<'_>, group: Option<&Step>) -> Personality {
    if let (Some(Backing::AzureFile), Some(Step { group, .. }), None) =
        (asked.backing, group, &asked.personality)
    {
        // The option is one that this family takes, with a number as its value.
        let taken = personality.option(&format!("gid={}", group.value));
        debug_assert!(taken.is_ok(), "{taken:?}");
    }
    personality
}

/// The tree as the filesystem shows it: a new tmpfs is empty, one without owners shows the same for all.
fn personal_tree(
    told: Option<Arc<Tree>>,
    personality: &Personality,
    unknown: impl Fn() -> Unknown,
) -> Arc<Tree> {
    // A fresh tmpfs is the one file system whose content follows from its options.
    let mut tree = match (told, personality) {
        (Some(tree), _) => tree,
        (None, Personality::Tmpfs(options)) => {
            let text = "a tmpfs whose tree is not given is new and empty";
            let doubt = Doubt::new(Certainty::Assumed(text.into()), Certainty::Assumed(text.into()));
            let root =
                Entry::new(FileKind::Directory, options.uid, options.gid, options.mode).doubting(doubt);
            Arc::new(Tree::new(root, Provenance::rule("tmpfs: mode=, uid= and gid= of the mount, 1777 else")))
        }
        (None, _) => Arc::new(Tree::unknown(&unknown())),
    };
    if let Some(shown) = personality.shown() {
        Arc::make_mut(&mut tree).show_as(&shown);
    }
    if *personality == Personality::Overlay {
        Arc::make_mut(&mut tree).lower();
    }
    tree
}

/// The backing of a claim that no one bound, by its class: a CSI driver's volume.
fn provisioned(provisioner: &str, fs_type: Option<&str>) -> Backing {
    Backing::Csi { driver: provisioner.to_owned(), fs_type: fs_type.map(str::to_owned), inline: false }
}
