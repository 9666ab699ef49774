//! One path before and behind an act.

use mivask_model::act::{Act, Node, Verb};
use mivask_model::mode::{FileKind, ModeChange};
use mivask_model::tree::{InodeId, Tree};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

use super::{Action, Typed};
use crate::place::place_of;

/// A stage and the actor on it.
type Seen<'a> = (&'a Stage, &'a Actor);

/// The path of an act on both sides of it.
pub(super) struct Sides<'a> {
    pub act: &'a Act,
    pub before: Seen<'a>,
    pub after: Seen<'a>,
}

/// An inode with the tree it is in.
#[derive(Clone, Copy)]
struct Found<'a> {
    tree: &'a Tree,
    id: InodeId,
}

impl<'a> Found<'a> {
    fn at((stage, actor): Seen<'a>, path: &[u8], follow: Follow) -> Option<Self> {
        let Ok(Sight::There(place)) = look(&stage.storage, &actor.mounts, path, follow) else { return None };
        Some(Self { tree: &stage.source(place.source).tree, id: place.inode? })
    }

    fn kind(self) -> FileKind {
        self.tree.inode(self.id).kind
    }
}

impl Sides<'_> {
    pub(super) fn there(&self) -> Vec<Typed> {
        self.lines(true)
    }

    pub(super) fn back(&self) -> Vec<Typed> {
        self.lines(false)
    }

    fn lines(&self, there: bool) -> Vec<Typed> {
        let act = self.act;
        if let Verb::Renames(new) | Verb::RenamesNew(new) = &act.verb {
            return self.moved(new, there);
        }
        if let Verb::Exchanges(other) = &act.verb {
            let other = mivask_model::act::quoted(other);
            let path = mivask_model::act::quoted(&act.path);
            return vec![Typed::Note(format!("exchange {path} and {other}"))];
        }
        let path = if let Verb::Links(new) | Verb::LinksTarget(new) = &act.verb { new } else { &act.path };
        let follow = if act.verb.sets_attributes() { Follow::Links } else { Follow::AllButLast };
        let before = Found::at(self.before, path, follow);
        let after = Found::at(self.after, path, follow);
        let (from, to) = if there { (before, after) } else { (after, before) };
        let mut lines = match (from, to) {
            (None, None) => Vec::new(),
            (Some(from), None) => {
                let action =
                    if from.kind() == FileKind::Directory { Action::RemoveDirectory } else { Action::Remove };
                self.typed(path, [action])
            }
            (None, Some(to)) => self.made(path, to, there),
            (Some(from), Some(to)) => self.typed(path, differences(from, to)),
        };
        let loses = act.verb.writes() && before.is_some();
        if loses {
            let path = mivask_model::act::quoted(path);
            lines.push(Typed::Note(if there {
                format!("what is written to {path} is up to its program")
            } else {
                format!("what was in {path} is not recorded: it takes a backup")
            }));
        }
        lines
    }

    /// Something that is not there yet.
    fn made(&self, path: &[u8], to: Found<'_>, there: bool) -> Vec<Typed> {
        if let Verb::Links(_) | Verb::LinksTarget(_) = &self.act.verb {
            let old = self.place(&self.act.path);
            let same_place = old.map(|place| place.path().to_vec());
            return same_place.map_or_else(Vec::new, |old| self.typed(path, [Action::Name(old)]));
        }
        let mut lines = Vec::new();
        let new = match to.kind() {
            FileKind::File => {
                if !there {
                    let path = mivask_model::act::quoted(path);
                    lines.push(Typed::Note(format!(
                        "{path} is gone with what was in it: that takes a backup"
                    )));
                }
                Action::File
            }
            FileKind::Directory => Action::Directory,
            FileKind::Fifo => Action::Fifo,
            FileKind::Link => Action::Link(to.tree.target(to.id).unwrap_or_default().to_vec()),
            kind @ (FileKind::Socket | FileKind::CharDevice | FileKind::BlockDevice) => {
                let device = to.tree.device(to.id);
                let none = mivask_model::tree::Device { major: 0, minor: 0 };
                Action::Node(Node { kind, device: device.unwrap_or(none) })
            }
        };
        lines.extend(self.typed(path, std::iter::once(new).chain(attributes(to))));
        lines
    }

    fn moved(&self, new: &[u8], there: bool) -> Vec<Typed> {
        let old = self.act.path.as_slice();
        let (from, to) = if there { (old, new) } else { (new, old) };
        let target = self.place(to).map(|place| place.path().to_vec());
        let mut lines = target.map_or_else(Vec::new, |to| self.typed(from, [Action::Move(to)]));
        if !there && Found::at(self.before, new, Follow::AllButLast).is_some() {
            let new = mivask_model::act::quoted(new);
            lines.push(Typed::Note(format!("{new} was replaced: what was there before takes a backup")));
        }
        lines
    }

    fn place(&self, path: &[u8]) -> Option<super::ChangedPlace> {
        place_of(self.before.0, self.before.1, path).or_else(|| place_of(self.after.0, self.after.1, path))
    }

    fn typed(&self, path: &[u8], actions: impl IntoIterator<Item = Action>) -> Vec<Typed> {
        let Some(place) = self.place(path) else {
            let path = mivask_model::act::quoted(path);
            return vec![Typed::Note(format!("where {path} is in the real world is not known"))];
        };
        let actor = &self.before.1.name;
        let line = |action| Typed::Path { actor: actor.clone(), place: place.clone(), below: false, action };
        actions.into_iter().map(line).collect()
    }
}

/// Everything about an inode, as far as it is known.
fn attributes(to: Found<'_>) -> Vec<Action> {
    let mut all = Vec::new();
    if let Some(owner) = to.tree.owner(to.id).value() {
        all.push(Action::Owner { uid: Some(owner.uid.raw()), gid: Some(owner.gid.raw()) });
    }
    if to.kind() == FileKind::Link {
        return all;
    }
    match (to.tree.acl(to.id), to.tree.mode(to.id).value()) {
        (acl, Some(mode)) => {
            all.push(Action::Mode(ModeChange::exactly(mode)));
            all.extend(acl.map(|acl| Action::Acl(acl.to_string())));
        }
        (Some(acl), None) => all.push(Action::Acl(acl.to_string())),
        (None, None) => {}
    }
    all.extend(to.tree.default_acl(to.id).map(|acl| Action::DefaultAcl(acl.to_string())));
    all
}

/// What makes `from` the same as `to`.
fn differences(from: Found<'_>, to: Found<'_>) -> Vec<Action> {
    let mut all = Vec::new();
    let owners = (from.tree.owner(from.id).value(), to.tree.owner(to.id).value());
    if let (was, Some(is)) = owners
        && was != Some(is)
    {
        let uid = was.is_none_or(|was| was.uid != is.uid).then_some(is.uid.raw());
        let gid = was.is_none_or(|was| was.gid != is.gid).then_some(is.gid.raw());
        all.push(Action::Owner { uid, gid });
    }
    if to.kind() == FileKind::Link {
        return all;
    }
    let acls = (from.tree.acl(from.id), to.tree.acl(to.id));
    let modes = (from.tree.mode(from.id).value(), to.tree.mode(to.id).value());
    if acls.0 != acls.1 {
        all.push(acls.1.map_or(Action::NoAcl, |acl| Action::Acl(acl.to_string())));
    }
    // chown takes set-id bits away, so they are set behind it.
    if let (was, Some(is)) = modes
        && (was != Some(is) || !all.is_empty() && is.bits() > 0o777)
    {
        all.push(Action::Mode(ModeChange::exactly(is)));
    }
    let defaults = (from.tree.default_acl(from.id), to.tree.default_acl(to.id));
    if defaults.0 != defaults.1 {
        all.push(defaults.1.map_or(Action::NoDefaultAcl, |acl| Action::DefaultAcl(acl.to_string())));
    }
    all
}
