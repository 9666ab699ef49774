//! The inodes of a listing on their way into a tree.

use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::fact::{Provenance, Unknown};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{Certainty, Doubt, Entry, OwnerNames, Tree, Unrecorded};

use super::lines::Lines;
use crate::error::DiskError;
use crate::gathered::Gathered;
use crate::grow::Grower;

pub(super) struct Collector {
    pub grower: Grower,
    /// The path that means the root of the tree, once it is known.
    root: Option<Vec<u8>>,
}

impl Collector {
    pub(super) fn new(name: &str) -> Self {
        let fact = format!("what else is in the directories that {name} does not list");
        let rest =
            Certainty::Unknown(Unknown::new(&fact, "list the directory itself, with all that is in it"));
        let origin = Provenance::Source(Arc::from(name));
        Self { grower: Grower::with_rest(origin, name, true, rest), root: None }
    }

    /// Paths are given from the root already.
    pub(super) fn rooted(mut self) -> Self {
        self.root = Some(Vec::new());
        self
    }

    /// Adds what a line says of `path`. The first directory that is given is the root of the tree.
    pub(super) fn put(&mut self, lines: &Lines<'_>, path: &[u8], mut entry: Entry) -> Result<(), DiskError> {
        entry.line = u32::try_from(lines.number).unwrap_or(0);
        let path = self.below(lines, path, entry.kind)?;
        self.grower.put_below(&path, entry).map(drop).map_err(|what| lines.wrong(0, what, None))
    }

    /// The path as it is below the root.
    pub(super) fn below(
        &mut self,
        lines: &Lines<'_>,
        path: &[u8],
        kind: FileKind,
    ) -> Result<Vec<u8>, DiskError> {
        let path = trimmed(path);
        let root = self.root.get_or_insert_with(|| match kind {
            FileKind::Directory => path.to_vec(),
            // Files alone: told from where the listing was made.
            FileKind::File
            | FileKind::Link
            | FileKind::Fifo
            | FileKind::Socket
            | FileKind::CharDevice
            | FileKind::BlockDevice => Vec::new(),
        });
        let rest = match root.as_slice() {
            [] | b"." | b"/" => Some(path),
            root => match path.strip_prefix(root) {
                Some([]) => Some(&b""[..]),
                Some(rest) if rest[0] == b'/' => Some(rest),
                _ => None,
            },
        };
        let Some(rest) = rest else {
            let message = format!("{} is not in {}, the first directory", quoted(path), quoted(root));
            let help = "one listing covers one directory: the first that it names";
            return Err(lines.wrong(0, message, Some(help)));
        };
        Ok(if rest == b"." { Vec::new() } else { rest.to_vec() })
    }

    /// The tree; `unrecorded` is what the listing does not tell of.
    pub(super) fn finish(self, name: &str, unrecorded: Unrecorded) -> Result<Gathered, DiskError> {
        let Some(root) = self.root else {
            return Err(DiskError::whole(name, "the listing names no file"));
        };
        let root_told = self.grower.root_told;
        let (mut tree, holes) = self.grower.finish();
        if !root_told {
            // Whether anything can be made in the directory depends on it, and whether it can be passed at all.
            let contents = tree.doubt(Tree::ROOT).map(|doubt| doubt.contents.clone()).unwrap_or_default();
            let fact = format!("owner and mode of the directory that {name} lists");
            let settle = "list the directory itself too, as `ls -lan` and `find DIR` do, or give a survey";
            let attributes = Certainty::Unknown(Unknown::new(&fact, settle));
            tree.set_doubt(Tree::ROOT, Doubt::new(attributes, contents));
        }
        tree.set_unrecorded(unrecorded);
        Ok(Gathered { top: top(&root), ..Gathered::new(tree, holes) })
    }
}

/// A path without slashes at its end, except the root.
fn trimmed(path: &[u8]) -> &[u8] {
    let end = path.iter().rposition(|byte| *byte != b'/').map_or(1, |last| last + 1);
    &path[..end.min(path.len())]
}

/// `entry` of which the owner is not known.
pub(super) fn unknown_owner(entry: &mut Entry, fact: &str, settle: &str) {
    let before = entry.doubt.take().unwrap_or_default();
    entry.doubt = Some(Doubt { owner: Certainty::Unknown(Unknown::new(fact, settle)), ..before });
}

/// The same where at least the name of the user, of the group or of both is told.
pub(super) fn named_owner(
    entry: &mut Entry,
    (user, group): (Option<&[u8]>, Option<&[u8]>),
    fact: &str,
    settle: &str,
) {
    unknown_owner(entry, fact, settle);
    let names = OwnerNames { user: user.map(Arc::from), group: group.map(Arc::from) };
    if let Some(doubt) = &mut entry.doubt {
        doubt.names = Some(Arc::new(names));
    }
}

/// `entry` of which the mode, or the ACL that goes with it, is not known.
pub(super) fn unknown_mode(entry: &mut Entry, fact: &str, settle: &str) {
    let before = entry.doubt.take().unwrap_or_default();
    entry.doubt = Some(Doubt { mode: Certainty::Unknown(Unknown::new(fact, settle)), ..before });
}

/// Where the directory `root` of a listing is on its machine, if that is given and is not `/`.
pub(super) fn top(root: &[u8]) -> Option<Vec<u8>> {
    let root = trimmed(root);
    (root.len() > 1 && root[0] == b'/').then(|| root.to_vec())
}

/// `entry` whose kind the listing does not tell, so that it is taken for a file.
pub(super) fn assumed_file(entry: &mut Entry, shown: &str, why: &str) {
    // Hardly any directory is without search permission, and what has it may as well be one.
    if entry.mode.has_any(Mode::ANY_EXECUTE) {
        let fact = format!("whether {shown} is a file or an empty directory: {why}");
        let unknown =
            Unknown::new(&fact, "give a survey, or a listing with kinds: `find -printf` or `ls -lnR`");
        let before = entry.doubt.take().unwrap_or_default();
        entry.doubt = Some(Doubt { kind: Certainty::Unknown(unknown), ..before });
        return;
    }
    let assumed = Certainty::Assumed(format!("{shown} is a file: {why}").into());
    let before = entry.doubt.take().unwrap_or_default();
    // What is not known asks for itself, and whoever answers that says of what kind it is.
    let or_assumed = |certainty| if certainty == Certainty::Known { assumed.clone() } else { certainty };
    let owner = or_assumed(before.owner);
    let mode = or_assumed(before.mode);
    entry.doubt = Some(Doubt { owner, mode, ..before });
}

/// `entry` of which no one knows what is in it.
pub(super) fn unknown_contents(entry: &mut Entry, fact: &str, settle: &str) {
    let before = entry.doubt.take().unwrap_or_default();
    let contents = Certainty::Unknown(Unknown::new(fact, settle));
    entry.doubt = Some(Doubt { contents, ..before });
}
