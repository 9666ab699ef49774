//! hostPath volumes: the host's inode as it is (docs/facts/kubelet.md section 5).

use std::sync::Arc;

use mivask_model::devices::{self, Guess};
use mivask_model::fact::{Provenance, Unknown};
use mivask_model::host_mounts::HostMount;
use mivask_model::ids::KernelOwner;
use mivask_model::mode::FileKind;
use mivask_model::mount::{Mount, MountFlags, MountTable, Preparation, Source, SourceFacts, SourceId};
use mivask_model::mount_kind::MountKind;
use mivask_model::path::trimmed;
use mivask_model::refusal::Refusal;
use mivask_model::refusal::RefusalClass;
use mivask_model::tree::{Certainty, Device, InodeId, Tree};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::view::Place;
use mivask_rules::walk::Follow;

use super::context::Context;
use super::mount_point::{Maker, find_or_make};
use super::nested;
use super::prepared::Prepared;
use super::rights::may_not_make;
use crate::namespace::Starter;
use crate::scene::{HostPathCheck, Scene};
use crate::stage::Stage;

/// The host's tree as one source that all host paths share; `None` where nothing is known of it.
pub(super) fn host_source(scene: &Scene) -> Option<Source> {
    let mut tree = scene.host.tree.clone()?;
    if let Some(mounts) = &scene.host.mounts {
        nested::make_mount_points(&mut tree, mounts);
    }
    Some(Source::new(tree, SourceFacts::local("host")))
}

/// One path of the host that is to be mounted.
#[derive(Clone, Copy)]
pub(super) struct Wanted<'a> {
    /// The absolute path.
    pub path: &'a [u8],
    /// What is checked or made.
    pub check: HostPathCheck,
    /// The kind of volume, for words.
    pub kind: &'a MountKind,
    /// Where it was asked for.
    pub from: &'a Provenance,
    /// Who makes a missing one, in kernel ids.
    pub creator: KernelOwner,
    /// Whether a cluster waits where an engine refuses.
    pub waits: bool,
}

/// One host path with the flags of the mount underneath. The filesystem group never changes it.
pub(super) fn prepare(stage: &mut Stage, context: &Context<'_>, wanted: &Wanted<'_>) -> Prepared {
    let tree = context.host.map(|host| &stage.source(host).tree);
    // The mount that counts is the one at the end of the links: a bind follows them.
    let real = tree.map_or_else(|| wanted.path.to_vec(), |tree| real_path(tree, wanted.path));
    let mount = context.scene.host.mounts.as_ref().and_then(|mounts| mounts.covering(&real));
    let mut prepared = on_host(stage, context, wanted, (&real, mount));
    if let Some(mount) = mount {
        // A bind shows the flags of the mount underneath; a superblock's own say more than any mount.
        prepared.flags = prepared.flags.with(mount.flags);
        if mount.flags != MountFlags::NONE || mount.read_only_filesystem {
            let at = mivask_model::act::quoted(&mount.at);
            prepared.note(format!(
                "the host's {} mount at {at} is {} ({})",
                mount.filesystem, mount.flags, mount.from
            ));
        }
    }
    prepared
}

/// The path of the host without the links on it, as tables of mounts have it; as it is where it is not listed.
fn real_path(tree: &Tree, path: &[u8]) -> Vec<u8> {
    let directory = |path: &[u8]| tree.directory_at(path).map(|dir| tree.path_of(dir));
    if let Some(real) = directory(path) {
        return if real.is_empty() { b"/".to_vec() } else { real };
    }
    // A file, or what is missing, is where its name does.
    let (above, name) = path.split_at(path.iter().rposition(|byte| *byte == b'/').unwrap_or(0));
    directory(above).map_or_else(|| path.to_vec(), |above| [above.as_slice(), name].concat())
}

fn on_host(
    stage: &mut Stage,
    context: &Context<'_>,
    wanted: &Wanted<'_>,
    (real, mount): (&[u8], Option<&HostMount>),
) -> Prepared {
    let shown = mivask_model::act::quoted(wanted.path);
    let Some(host) = context.host else {
        return unknown(stage, &shown, wanted, mount);
    };
    let whole = host;
    let host = nested::source_on(stage, host, mount);
    let (starter, _) = context.starter_of();
    let found = match reach(stage, host, wanted, starter) {
        Ok(Reached::Unlisted) => return unknown(stage, &shown, wanted, mount),
        Ok(Reached::Known(root, made)) => Ok((root, made)),
        Err(problem) => Err(problem),
    };
    let mut preparation = Preparation::default();
    let (root, blocked) = match found {
        Ok((root, made)) => {
            if let Some(made) = made {
                let owner = wanted.creator;
                let note = format!("{shown} is missing on the host, so it is made as {made} of {owner}");
                preparation.notes.push(note.into());
                preparation.made = true;
            }
            (root, None)
        }
        Err((class, reason)) => (Tree::ROOT, Some(refusal(class, &shown, &reason, wanted))),
    };
    let tree = &stage.source(host).tree;
    let given = |root: &InodeId| tree.doubt(*root).is_none_or(|doubt| doubt.unknown_attribute().is_none());
    preparation.before = Some(root).filter(given).map(|root| super::prepared::root_facts(tree, root));
    let nested = nested::below(stage, context, (whole, host), root, real);
    Prepared {
        nested,
        root: Some(root),
        label: Some(Arc::from(format!("host {shown}"))),
        host_path: Some(Arc::from(wanted.path)),
        blocked,
        ..Prepared::single(host, wanted.kind.clone(), preparation)
    }
}

fn refusal(class: RefusalClass, path: &str, reason: &str, wanted: &Wanted<'_>) -> Refusal {
    let from = wanted.from.clone();
    if wanted.waits {
        let reason = format!("host path {path}: {reason}, so the pod waits for ever");
        return Refusal { class, reason, from, whole_pod: true };
    }
    Refusal {
        class: RefusalClass::StartRefused,
        reason: format!("host path {path}: {reason}"),
        from,
        whole_pod: false,
    }
}

/// What is at a host path once the kubelet has looked.
enum Reached {
    /// An inode, and what it was made as where it was missing.
    Known(InodeId, Option<&'static str>),
    /// No one listed it, so no one knows.
    Unlisted,
}

/// The status a user meets, and why.
type Problem = (RefusalClass, String);

fn failed(reason: impl Into<String>) -> Problem {
    (RefusalClass::FailedMount, reason.into())
}

/// What is there is not given; where `check` does not say that it is a directory, not even its kind is known. The
/// superblock it is on may be given all the same.
fn unknown(stage: &mut Stage, shown: &str, wanted: &Wanted<'_>, mount: Option<&HostMount>) -> Prepared {
    let missing =
        Unknown::new(&format!("what is at host path {shown}"), "give `host: { tree: ... }` in a scene file");
    let needed = kind_needed(wanted.check);
    let directory = needed == Some(FileKind::Directory);
    let mut tree = if directory {
        Tree::unknown(&missing)
    } else {
        let (kind, device) = guessed(wanted.path, needed);
        Tree::of_unknown_kind(&missing, kind, device)
    };
    // Some file systems show one owner and mode for every directory; what shows of a file is its own, too.
    let shows = mount.and_then(|mount| mount.personality.as_ref()?.shown());
    if directory && let Some(shows) = shows {
        tree.show_as(&shows);
    }
    let native = mount.map_or_else(
        || Certainty::Assumed(format!("host path {shown} is on a local file system").into()),
        nested::knows_rules,
    );
    let facts = SourceFacts {
        filesystem: mount.map(|mount| mount.filesystem.clone()),
        read_only: mount.is_some_and(|mount| mount.read_only_filesystem),
        native,
        personality: mount.and_then(|mount| mount.personality.clone()).unwrap_or_default(),
        labels: mount.map(|mount| mount.labels.clone()).unwrap_or_default(),
        ..SourceFacts::local(format!("host path {shown}"))
    };
    let source = stage.add_source(Source::new(Arc::new(tree), facts));
    // Without a type, nothing says whether a directory or a file is mounted.
    let instead = stage.source(source).tree.file_instead().filter(|_| needed.is_some());
    let root = if directory { Some(Tree::ROOT) } else { instead };
    let host_path = Some(Arc::from(wanted.path));
    Prepared { root, host_path, ..Prepared::single(source, wanted.kind.clone(), Preparation::default()) }
}

/// What is at a host path that is no directory, as far as its name or the check tells.
fn guessed(path: &[u8], needed: Option<FileKind>) -> (FileKind, Option<Device>) {
    let guess = path.strip_prefix(b"/dev/").map(|name| devices::guess(trimmed(name)));
    match (needed, guess) {
        (None | Some(FileKind::CharDevice), Some(Guess::Device(kind, device))) => (kind, Some(device)),
        (Some(kind), _) => (kind, None),
        (None, Some(Guess::Either)) => (FileKind::BlockDevice, None),
        (None, Some(Guess::Nothing) | None) => (FileKind::File, None),
    }
}

/// The inode at `path` on the host, made where it is missing and `check` makes something.
fn reach(
    stage: &mut Stage,
    host: SourceId,
    wanted: &Wanted<'_>,
    starter: Option<&Starter>,
) -> Result<Reached, Problem> {
    let path = wanted.path;
    let check = wanted.check;
    let table = host_table(host);
    match seen(stage, &table, path, Follow::Links)? {
        Seen::Unlisted => Ok(Reached::Unlisted),
        Seen::There(inode, kind) => match kind_needed(check) {
            // A file is whatever exists and is no directory (kubelet, `isFile` of the host utilities).
            Some(FileKind::File) if kind != FileKind::Directory => Ok(Reached::Known(inode, None)),
            Some(needed) if kind != needed => {
                Err(failed(format!("type {check:?} needs a {}, but it is a {}", needed.word(), kind.word())))
            }
            Some(_) | None => Ok(Reached::Known(inode, None)),
        },
        Seen::Missing => match starter.and_then(|starter| may_not_make(stage, &table, starter, path)) {
            Some(errno) => {
                Err(failed(format!("nothing is there, and the engine's user may not make it: {errno}")))
            }
            None => make(stage, &table, wanted),
        },
    }
}

const fn kind_needed(check: HostPathCheck) -> Option<FileKind> {
    match check {
        HostPathCheck::None | HostPathCheck::MustExist => None,
        HostPathCheck::DirectoryOrCreate | HostPathCheck::Directory => Some(FileKind::Directory),
        HostPathCheck::FileOrCreate | HostPathCheck::File => Some(FileKind::File),
        HostPathCheck::Socket => Some(FileKind::Socket),
        HostPathCheck::CharDevice => Some(FileKind::CharDevice),
        HostPathCheck::BlockDevice => Some(FileKind::BlockDevice),
    }
}

fn host_table(host: SourceId) -> MountTable {
    let mut table = MountTable::default();
    table.push(Mount::root(host, MountKind::Host, Provenance::rule("the host")));
    table
}

/// What is at `path`, and an inode's kind with it.
fn seen(stage: &Stage, table: &MountTable, path: &[u8], follow: Follow) -> Result<Seen, Problem> {
    match look(&stage.storage, table, path, follow) {
        Ok(Sight::There(Place { source, inode: Some(id), .. })) => {
            Ok(Seen::There(id, stage.source(source).tree.inode(id).kind))
        }
        Ok(Sight::There(_) | Sight::Unlisted) => Ok(Seen::Unlisted),
        Ok(Sight::Missing) => Ok(Seen::Missing),
        Err(errno) => Err(failed(format!("{errno} ({})", errno.meaning()))),
    }
}

enum Seen {
    There(InodeId, FileKind),
    Missing,
    Unlisted,
}

fn make(stage: &mut Stage, table: &MountTable, wanted: &Wanted<'_>) -> Result<Reached, Problem> {
    let Wanted { path, check, .. } = *wanted;
    let (kind, made) = match check {
        HostPathCheck::None | HostPathCheck::DirectoryOrCreate => (FileKind::Directory, "a directory 0755"),
        HostPathCheck::FileOrCreate => (FileKind::File, "a file 0644"),
        HostPathCheck::MustExist => return Err(failed("nothing is there")),
        HostPathCheck::Directory
        | HostPathCheck::File
        | HostPathCheck::Socket
        | HostPathCheck::CharDevice
        | HostPathCheck::BlockDevice => {
            return Err(failed(format!("nothing is there, and type {check:?} makes nothing")));
        }
    };
    // mkdir -p stops at the link, and the runtime is then given a path that leads nowhere.
    if let Seen::There(_, FileKind::Link) = seen(stage, table, path, Follow::AllButLast)? {
        return Err((RefusalClass::CreateContainerError, "a link that points at nothing".to_owned()));
    }
    if kind == FileKind::File && matches!(seen(stage, table, parent(path), Follow::Links)?, Seen::Missing) {
        return Err(failed("nothing is there, and FileOrCreate does not make the parent"));
    }
    // An engine gives what it makes to its root, whatever set-group-id directory that is in (`MkdirAllAndChownNew`).
    let owner = (!wanted.waits).then_some(wanted.creator);
    let maker = Maker { owner, owner_above: owner, ..Maker::host(wanted.creator) };
    let made_there = find_or_make(stage, table, path, kind, &maker);
    let place = made_there.map_err(|why| failed(why.to_string()))?.place;
    Ok(place.inode.map_or(Reached::Unlisted, |inode| Reached::Known(inode, Some(made))))
}

fn parent(path: &[u8]) -> &[u8] {
    let end = path.iter().rposition(|byte| *byte == b'/').unwrap_or(0);
    if end == 0 { b"/" } else { &path[..end] }
}
