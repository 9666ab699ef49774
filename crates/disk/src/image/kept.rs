//! A layer kept as a survey of what it adds and what it takes away, so that it need not be read again.

use std::io::{self, Read, Write};
use std::sync::Arc;

use mivask_model::fact::Provenance;
use mivask_model::mode::FileKind;
use mivask_model::tree::{Certainty, Entry, InodeId, Tree};
use rustc_hash::FxHashMap;

use super::layer::{Layer, add, is_whiteout};
use crate::archive::{Member, What};
use crate::gathered::Gathered;
use crate::grow::Grower;
use crate::survey::{self, SurveyError};

impl Layer {
    /// Writes the layer as a survey, which is called `key` in its head; whiteouts are files in it. `false`, with nothing
    /// written, where its members do not make one tree that says the same: an archive that names a path twice, or reaches
    /// one through its own links.
    ///
    /// # Errors
    /// `out` cannot be written.
    pub fn keep(&self, out: &mut dyn Write, key: &str) -> io::Result<bool> {
        let Some(tree) = self.tree(key) else { return Ok(false) };
        let gathered = Gathered { accounts: Some(self.accounts.clone()), ..tree };
        survey::record(out, &gathered, key).map(|()| true)
    }

    fn tree(&self, key: &str) -> Option<Gathered> {
        let mut grower = Grower::new(Provenance::Source(Arc::from(key)), "the layer", true);
        for member in &self.members {
            // A whiteout is no file that could have a further name.
            if let What::Same(first) = &member.what
                && is_whiteout(first)
            {
                return None;
            }
            add(&mut grower, member).ok()?;
            let path = grower.plain(&member.path).ok()?;
            grower.tree.find(&path)?;
        }
        let direct = !grower.gave_way();
        let (tree, holes) = grower.finish();
        (direct && !holes.any()).then(|| Gathered::new(tree, holes))
    }

    /// Reads what [`Self::keep`] wrote under `key`; `bytes` is how many there are. `None` where it is another's.
    ///
    /// # Errors
    /// It is no survey, or a damaged one.
    pub fn kept(input: &mut dyn Read, key: &str, bytes: u64) -> Result<Option<Self>, SurveyError> {
        let (source, gathered) = survey::read_named(input, "the layer", Some(bytes))?;
        if source != key {
            return Ok(None);
        }
        let members = Members { tree: &gathered.tree, first: FxHashMap::default(), all: Vec::new() };
        let accounts = gathered.accounts.clone().unwrap_or_default();
        Ok(Some(Self { members: members.of_everything(), accounts }))
    }
}

/// The members that made a tree.
struct Members<'t> {
    tree: &'t Tree,
    /// The first path of each inode that is no directory.
    first: FxHashMap<InodeId, usize>,
    all: Vec<Member>,
}

impl Members<'_> {
    fn of_everything(mut self) -> Vec<Member> {
        if !is_implied(self.tree, Tree::ROOT) {
            self.all.push(member(Vec::new(), &self.tree.facts_of(Tree::ROOT)));
        }
        let mut pending = vec![(Tree::ROOT, Vec::new())];
        while let Some((dir, path)) = pending.pop() {
            let below = pending.len();
            for (name, id) in self.tree.children(dir) {
                let path = if path.is_empty() { name.to_vec() } else { [&path, &b"/"[..], name].concat() };
                if self.tree.inode(id).kind == FileKind::Directory {
                    if !is_implied(self.tree, id) {
                        self.all.push(member(path.clone(), &self.tree.facts_of(id)));
                    }
                    pending.push((id, path));
                    continue;
                }
                let mut given = member(path, &self.tree.facts_of(id));
                match self.first.get(&id) {
                    Some(first) => given.what = What::Same(self.all[*first].path.clone()),
                    None => drop(self.first.insert(id, self.all.len())),
                }
                self.all.push(given);
            }
            pending[below..].reverse();
        }
        self.all
    }
}

/// Whether a directory was only named on the way to something else.
fn is_implied(tree: &Tree, dir: InodeId) -> bool {
    tree.doubt(dir).is_some_and(|doubt| matches!(doubt.mode, Certainty::Assumed(_)))
}

fn member(path: Vec<u8>, entry: &Entry) -> Member {
    let what = match (entry.kind, entry.device) {
        (FileKind::Link, _) => What::Link(entry.target.to_vec()),
        (kind @ (FileKind::CharDevice | FileKind::BlockDevice), Some(device)) => What::Device(kind, device),
        (kind, _) => What::Kind(kind),
    };
    Member {
        path,
        what,
        uid: entry.uid.raw(),
        gid: entry.gid.raw(),
        mode: entry.mode,
        size: entry.size.unwrap_or(0),
        extended: entry.extended.clone(),
        // An ACL that was not understood is the only doubt that a member may have.
        understood: entry.doubt.is_none(),
        content: entry.content.clone(),
    }
}
