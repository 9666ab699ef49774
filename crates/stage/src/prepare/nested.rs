//! Mounts of the host that are below a host path (docs/facts/runtimes.md section 4, docs/facts/kubelet.md section 5).

use std::sync::Arc;

use mivask_model::fact::Unknown;
use mivask_model::host_mounts::{HostMount, HostMounts};
use mivask_model::labels::Labels;
use mivask_model::mount::{Preparation, Source, SourceFacts, SourceId};
use mivask_model::personality::Personality;
use mivask_model::tree::{Certainty, Doubt, Entry, InodeId, Tree};

use super::context::Context;
use super::prepared::{Nested, Prepared};
use super::sub_path::{self, Part};
use crate::stage::Stage;

/// Puts the mount points of a host into its tree where they are not listed: a table that names one shows that it is there,
/// and nothing else of it.
pub(super) fn make_mount_points(tree: &mut Arc<Tree>, mounts: &HostMounts) {
    // A directory that something is mounted on exists, whether the survey of the host saw it or not.
    for (mount, rest) in mounts.below(b"/").filter(|(mount, _)| mount.whole) {
        let mut here = Tree::ROOT;
        for name in rest.split(|byte| *byte == b'/').filter(|name| !name.is_empty()) {
            here = match tree.lookup(here, name) {
                Some(found) => found,
                None => {
                    let at = mivask_model::act::quoted(&mount.at);
                    let unknown = |what: &str| {
                        let fact = format!("{what} the directories on the way to the host's mount at {at}");
                        Certainty::Unknown(Unknown::new(&fact, "give `host: { tree: ... }` that lists them"))
                    };
                    let doubt = Doubt::new(unknown("owner and mode of"), unknown("what is in"));
                    let entry = Entry::directory(0, 0, 0).at(mount.from.clone()).doubting(doubt);
                    match Arc::make_mut(tree).add(here, name, entry) {
                        Ok(made) => made,
                        // Something else is on the way, or there is no room: then it is as if it were not described.
                        Err(_) => break,
                    }
                }
            };
        }
    }
}

/// The mounts of the host below its directory `path`, which is `root` in the tree of `host`, as far as the tree has their
/// mount points; `whole` is the host without regard to mounts.
pub(super) fn below(
    stage: &mut Stage,
    context: &Context<'_>,
    (whole, host): (SourceId, SourceId),
    root: InodeId,
    path: &[u8],
) -> Vec<Nested> {
    let Some(mounts) = &context.scene.host.mounts else { return Vec::new() };
    let mut all = Vec::new();
    for (mount, rest) in mounts.below(path) {
        let tree = &stage.source(host).tree;
        let names = rest.split(|byte| *byte == b'/').filter(|name| !name.is_empty());
        let found = names.into_iter().try_fold(root, |dir, name| tree.lookup(dir, name));
        // It shows through a link or is hidden itself: then no bind of `path` brings it along.
        let Some(inode) = found else { continue };
        let label = Arc::from(format!("host {}", mivask_model::act::quoted(&mount.at)));
        let source = source_on(stage, whole, Some(mount));
        let own = &stage.source(source).tree;
        let Some((shows, top)) = own.find(&mount.at).zip(own.find(path)) else { continue };
        let rest = rest.to_vec();
        let flags = mount.flags;
        let from = mount.from.clone();
        let at = Arc::from(mount.at.as_slice());
        all.push(Nested { at, rest, inode, shows, top, source, flags, label, from });
    }
    all
}

/// The part of a host path that `path` names where that is on a mount below it, or `None` where it does not: whoever
/// looks for the part walks across mounts, and what is mounted there shows, with its flags.
///
/// # Errors
/// As for a part of any volume.
pub(super) fn part(
    stage: &mut Stage,
    volume: &Prepared,
    part: Part,
    path: &[u8],
) -> Result<Option<Prepared>, String> {
    let Some(root) = volume.root else { return Ok(None) };
    let tree = &stage.source(volume.variants[0].source).tree;
    let above =
        |from: InodeId| std::iter::successors(Some(from), |dir| (*dir != root).then(|| tree.parent(*dir)));
    let Some(nested) =
        above(part.directory).find_map(|dir| volume.nested.iter().find(|nested| nested.inode == dir))
    else {
        return Ok(None);
    };
    let mut on = Prepared {
        root: Some(nested.top),
        flags: nested.flags,
        label: Some(nested.label.clone()),
        host_path: Some(nested.at.clone()),
        ..Prepared::single(nested.source, volume.kind.clone(), Preparation::default())
    };
    let deeper = [nested.rest.as_slice(), b"/"].concat();
    on.nested = volume.nested.iter().filter(|other| other.rest.starts_with(&deeper)).cloned().collect();
    on.root = sub_path::resolve(stage, &on, path)?.map(|part| part.inode);
    Ok(Some(on))
}

/// Leaves the mounts below `volume` behind: the directories they are mounted on show, and what those are cannot be seen
/// on a host where the mounts are.
pub(super) fn leave_behind(stage: &mut Stage, volume: &mut Prepared) {
    let left = std::mem::take(&mut volume.nested);
    if left.is_empty() {
        return;
    }
    for variant in &mut volume.variants {
        let mut source = stage.source(variant.source).clone();
        let tree = Arc::make_mut(&mut source.tree);
        for nested in &left {
            let unknown = |what: &str| {
                let fact = format!("{what} the directory that the mount at {} is mounted on", nested.label);
                let settle = "not possible in a scene: it shows only where nothing is mounted on it";
                Certainty::Unknown(Unknown::new(&fact, settle))
            };
            // The tree holds what is mounted there; a bind that leaves it behind shows the directory underneath
            // instead, which nobody sees on the host.
            tree.forget_all(nested.inode);
            let doubt = Doubt::new(unknown("owner and mode of"), unknown("what is in"));
            tree.set_doubt(nested.inode, doubt);
        }
        variant.source = stage.add_source(source);
    }
}

/// The source for paths on `mount`: the host's own, or one with the rules of the mount's file system.
pub(super) fn source_on(stage: &mut Stage, host: SourceId, mount: Option<&HostMount>) -> SourceId {
    let plain = |mount: &&HostMount| {
        mount.read_only_filesystem
            || mount.labels != Labels::default()
            || mount.personality.as_ref() != Some(&Personality::default())
    };
    let Some(mount) = mount.filter(plain) else { return host };
    let mut tree = stage.source(host).tree.clone();
    if let Some(shown) = mount.personality.as_ref().and_then(Personality::shown) {
        Arc::make_mut(&mut tree).show_as(&shown);
    }
    let facts = SourceFacts {
        filesystem: Some(mount.filesystem.clone()),
        read_only: mount.read_only_filesystem,
        native: knows_rules(mount),
        personality: mount.personality.clone().unwrap_or_default(),
        labels: mount.labels.clone(),
        ..SourceFacts::local(format!("host {}", mivask_model::act::quoted(&mount.at)))
    };
    stage.storage.add_source_on(host, Source::new(tree, facts))
}

/// Whether the file system of `mount` is one whose rules are known.
pub(super) fn knows_rules(mount: &HostMount) -> Certainty {
    if mount.personality.is_some() {
        return Certainty::Known;
    }
    let at = mivask_model::act::quoted(&mount.at);
    let fact = format!("the rules of {}, which is mounted at {at}", mount.filesystem);
    Certainty::Unknown(Unknown::new(&fact, "not possible here: this version does not know them"))
}
