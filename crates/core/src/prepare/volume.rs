//! What each volume of a workload is once the kubelet has prepared it.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::fs_group::{self, Policy, StepReport};
use super::host_path;
use super::prepared::{Prepared, root_facts, unknown_source};
use crate::fact::{Fact, Provenance, Unknown};
use crate::mode::FileKind;
use crate::mount::{MountFlags, Preparation, RootFacts, Source, SourceId, Variant};
use crate::personality::Personality;
use crate::scene::{Medium, Scene, Volume, VolumeFacts, VolumeKind, Workload};
use crate::stage::Stage;
use crate::tree::{Certainty, Doubt, Entry, Tree};

/// Every volume of `workload`, by its name in the description.
pub(super) fn prepare_all(
    stage: &mut Stage,
    scene: &Scene,
    workload: &Workload,
    host: Option<SourceId>,
) -> BTreeMap<String, Prepared> {
    let mut prepared = BTreeMap::new();
    for volume in &workload.volumes {
        let ready = match &volume.kind {
            VolumeKind::EmptyDir(medium) => empty_dir(stage, workload, volume, *medium),
            VolumeKind::HostPath { path, check } => {
                host_path::prepare(stage, host, path, *check, &volume.name)
            }
            VolumeKind::Claim { claim, read_only } => {
                let group = if *read_only { None } else { group_step(workload) };
                let mut ready = told_or_unknown(
                    stage,
                    scene,
                    claim,
                    &format!("claim {claim}"),
                    "persistentVolumeClaim",
                    group,
                );
                if *read_only {
                    ready.flags = ready.flags.with(MountFlags::READ_ONLY);
                }
                ready
            }
            VolumeKind::Stored(name) => {
                // Nobody prepares the volumes of a scene's own containers unless the scene says so.
                let facts = scene.volumes.get(name).and_then(|facts| facts.group_ownership.as_ref());
                let group = group_step(workload).filter(|_| facts.is_some_and(|told| told.value));
                told_or_unknown(stage, scene, name, &format!("volume {name}"), "volume", group)
            }
            VolumeKind::Other { kind, read_only } => other(stage, volume, kind, *read_only),
        };
        prepared.insert(volume.name.value.clone(), ready);
    }
    prepared
}

/// The filesystem group with its policy, where the workload has one.
fn group_step(workload: &Workload) -> Option<(Fact<u32>, Policy)> {
    let group = workload.security.fs_group.clone()?;
    let mismatch = workload.security.on_root_mismatch.as_ref().is_some_and(|fact| fact.value);
    Some((group, if mismatch { Policy::OnRootMismatch } else { Policy::Always }))
}

/// 0777 on disk, 1777 in memory; with a filesystem group 2777 and 3777 (facts/kubelet.md section 4).
fn empty_dir(stage: &mut Stage, workload: &Workload, volume: &Volume, medium: Medium) -> Prepared {
    let (mode, filesystem, rule) = match medium {
        Medium::Disk => (0o777, None, "the kubelet makes an emptyDir 0:0 0777"),
        Medium::Memory => {
            (0o1777, Some(Arc::from("tmpfs")), "a Memory emptyDir is a tmpfs, 0:0 1777 (sticky)")
        }
    };
    let mut tree = Tree::new(Entry::directory(0, 0, mode), Provenance::rule(rule));
    let mut preparation =
        Preparation { before: Some(root_facts(&tree, Tree::ROOT)), ..Preparation::default() };
    preparation.notes.push(Arc::from(rule));
    // The change policy counts for claims only.
    if let Some(group) = &workload.security.fs_group {
        let report = fs_group::apply(&mut tree, group.value, Policy::Always, &group.from);
        preparation.touches = report.touched;
        preparation.notes.extend(report.note);
    }
    let source = Source {
        name: Arc::from(format!("emptyDir {}", volume.name.value)),
        filesystem,
        tree: Arc::new(tree),
        read_only: false,
        native: Certainty::Known,
        personality: Personality::default(),
    };
    let source = stage.add_source(source);
    Prepared::single(source, "emptyDir", preparation)
}

fn told_or_unknown(
    stage: &mut Stage,
    scene: &Scene,
    key: &str,
    name: &str,
    kind: &str,
    group: Option<(Fact<u32>, Policy)>,
) -> Prepared {
    let facts = scene.volumes.get(key);
    let settle = format!("give `volumes: {{ {key}: {{ tree: ... }} }}` in a scene file");
    let personality = facts.map(|facts| facts.personality.clone()).unwrap_or_default();
    let unknown = || Unknown::new(&format!("what {name} holds"), &settle);
    let tree = personal_tree(facts.and_then(|facts| facts.tree.clone()), &personality, unknown);
    let base = Source {
        name: Arc::from(name),
        filesystem: facts.and_then(|facts| facts.filesystem.as_ref()).map(|fs| Arc::from(fs.value.as_str())),
        tree,
        read_only: facts.is_some_and(|facts| facts.read_only_filesystem) || personality.is_read_only(),
        personality,
        native: match facts {
            Some(facts) if facts.filesystem.is_some() || facts.tree.is_some() => Certainty::Known,
            Some(_) | None => {
                Certainty::Unknown(Unknown::new(&format!("the file system of {name}"), &settle))
            }
        },
    };
    let mut prepared = match group {
        Some((group, policy)) => with_group_step(stage, base, kind, facts, &group, policy),
        None => {
            let before = known_root(&base.tree);
            let source = stage.add_source(base);
            Prepared::single(source, kind, Preparation { before, ..Preparation::default() })
        }
    };
    prepared.flags = facts.map_or(MountFlags::default(), |facts| facts.flags);
    prepared
}

/// The tree as the filesystem shows it: a new tmpfs is empty, one without owners shows the same for all.
fn personal_tree(
    told: Option<Arc<Tree>>,
    personality: &Personality,
    unknown: impl Fn() -> Unknown,
) -> Arc<Tree> {
    let mut tree = match (told, personality) {
        (Some(tree), _) => tree,
        (None, Personality::Tmpfs(options)) => {
            let text = "a tmpfs of which no tree is told is new and empty";
            let doubt = Doubt {
                attributes: Certainty::Assumed(text.into()),
                contents: Certainty::Assumed(text.into()),
            };
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

fn known_root(tree: &Tree) -> Option<RootFacts> {
    let unknown =
        tree.doubt(Tree::ROOT).is_some_and(|doubt| matches!(doubt.attributes, Certainty::Unknown(_)));
    (!unknown).then(|| root_facts(tree, Tree::ROOT))
}

/// A claim under a filesystem group: the step happens, does not, or nobody knows which.
fn with_group_step(
    stage: &mut Stage,
    base: Source,
    kind: &str,
    facts: Option<&VolumeFacts>,
    group: &Fact<u32>,
    policy: Policy,
) -> Prepared {
    let name = base.name.clone();
    let before = known_root(&base.tree);
    let told = facts.and_then(|facts| facts.group_ownership.as_ref()).map(|fact| fact.value);
    let mut variants = Vec::new();
    if told != Some(false) {
        let (tree, report) = stepped(&base.tree, group, policy);
        let preparation =
            Preparation { before, touches: report.touched, notes: report.note.into_iter().collect() };
        let source = stage.add_source(Source { tree: Arc::new(tree), ..base.clone() });
        let when = format!("filesystem group {} reaches {name}", group.value);
        variants.push(Variant { when: when.into(), source, preparation });
    }
    if told != Some(true) {
        let note = Arc::from("the filesystem group is not applied to this volume");
        let preparation = Preparation { before, touches: 0, notes: vec![note] };
        let source = stage.add_source(base);
        let when = format!("it does not reach {name} (as with hostPath and NFS volumes)");
        variants.push(Variant { when: when.into(), source, preparation });
    }
    let question = told.is_none().then(|| {
        let settle = "say `group-ownership: apply` or `skip` for the volume in a scene file";
        Unknown::new(&format!("whether the filesystem group reaches {name}"), settle)
    });
    let first = variants[0].source;
    Prepared { variants, question, ..Prepared::single(first, kind, Preparation::default()) }
}

/// The tree after the step. One whose root is unknown is known in part then: its group, and at least 2770,
/// whether the step walked it or found that it matched.
fn stepped(tree: &Tree, group: &Fact<u32>, policy: Policy) -> (Tree, StepReport) {
    if known_root(tree).is_some() {
        let mut tree = tree.clone();
        let report = fs_group::apply(&mut tree, group.value, policy, &group.from);
        return (tree, report);
    }
    let contents = tree.doubt(Tree::ROOT).map_or(Certainty::Known, |doubt| doubt.contents.clone());
    let text =
        "after the filesystem-group step the volume's root is at least 2770; its owner is taken to be root";
    let doubt = Doubt { attributes: Certainty::Assumed(text.into()), contents };
    let root = Entry::directory(0, group.value, 0o2770).doubting(doubt).at(group.from.clone());
    let note = format!("the kubelet gives the volume to group {}, its root at least 2770", group.value);
    (Tree::new(root, tree.origin().clone()), StepReport { touched: 0, note: Some(note.into()) })
}

fn other(stage: &mut Stage, volume: &Volume, kind: &str, read_only: bool) -> Prepared {
    let name = format!("{kind} volume {}", volume.name.value);
    let unknown = Unknown::new(
        &format!("what {name} holds"),
        "not possible yet: this version does not read this kind of volume",
    );
    let mut prepared = unknown_source(stage, &name, kind, unknown);
    if read_only {
        prepared.flags = MountFlags::READ_ONLY;
    }
    prepared
}
