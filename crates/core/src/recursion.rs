//! What a change of many files does with each kind of file, as the usual tools do (docs/facts/tools.md section 1).

use mivask_model::act::{Act, Verb};
use mivask_model::glob::is_pattern;
use mivask_model::mode::FileKind;
use mivask_model::mount::MountTable;
use mivask_model::path::or_root;
use mivask_model::storage::Storage;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::walk::Follow;

/// The verb that is meant by `verb` where something of this kind is met; `None` where it is passed over.
///
/// Owners are those of a link itself; modes and ACLs of links are left alone; a directory is removed once it is empty.
pub(crate) fn verb_for(verb: &Verb, kind: FileKind) -> Option<Verb> {
    match (kind, verb) {
        (FileKind::Link, Verb::SetsOwner(owner)) => Some(Verb::SetsLinkOwner(*owner)),
        (FileKind::Link, Verb::SetsGroup(gid)) => Some(Verb::SetsLinkGroup(*gid)),
        (FileKind::Link, Verb::SetsLinkOwner(_) | Verb::SetsLinkGroup(_) | Verb::Deletes) => {
            Some(verb.clone())
        }
        (FileKind::Link, _) => None,
        (FileKind::Directory, Verb::Deletes) => Some(Verb::RemovesDirectory),
        (FileKind::Directory, Verb::Reads) => Some(Verb::Lists),
        (FileKind::Directory, Verb::Writes | Verb::Appends | Verb::Runs) => None,
        (FileKind::Directory, _) => Some(verb.clone()),
        (_, Verb::SetsDefaultAcl(_) | Verb::RemovesDefaultAcl | Verb::Lists | Verb::Enters) => None,
        _ => Some(verb.clone()),
    }
}

/// Whether a directory comes behind what is in it.
pub(crate) const fn from_below(verb: &Verb) -> bool {
    matches!(verb, Verb::Deletes)
}

/// The directory that is meant with everything in it: `/data` of `/data/**`.
pub(crate) fn whole(path: &[u8]) -> Option<&[u8]> {
    path.strip_suffix(b"/**").filter(|directory| !is_pattern(directory)).map(or_root)
}

/// What is there, without following a link at the end; `None` where nothing is, or nothing is listed.
pub(crate) fn kind_at(storage: &Storage, table: &MountTable, path: &[u8]) -> Option<FileKind> {
    match look(storage, table, path, Follow::AllButLast) {
        Ok(Sight::There(place)) => place.inode.map(|id| storage.source(place.source).tree.inode(id).kind),
        Ok(Sight::Missing | Sight::Unlisted) | Err(_) => None,
    }
}

/// The names in a directory, sorted; a link at its end is followed.
pub(crate) fn names_in(storage: &Storage, table: &MountTable, directory: &[u8]) -> Vec<Vec<u8>> {
    let Ok(Sight::There(place)) = look(storage, table, or_root(directory), Follow::Links) else {
        return Vec::new();
    };
    let Some(id) = place.inode else { return Vec::new() };
    let tree = &storage.source(place.source).tree;
    if tree.inode(id).kind != FileKind::Directory {
        return Vec::new();
    }
    let mut names: Vec<Vec<u8>> = tree.children(id).map(|(name, _)| name.to_vec()).collect();
    names.sort();
    names
}

/// `name` in `directory`.
pub(crate) fn joined(directory: &[u8], name: &[u8]) -> Vec<u8> {
    let directory = if directory == b"/" { b"".as_slice() } else { directory };
    [directory, b"/", name].concat()
}

/// `act` on one path.
pub(crate) fn on_path(act: &Act, verb: Verb, path: &[u8]) -> Act {
    Act { actor: act.actor.clone(), verb, path: path.to_vec(), expectation: act.expectation }
}
