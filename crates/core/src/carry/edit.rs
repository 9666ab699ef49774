//! One change of a tree.

use mivask_model::acl::{Acl, AclText};
use mivask_model::act::{Act, Verb};
use mivask_model::caps::FileCapabilities;
use mivask_model::fact::{Provenance, Unknown};
use mivask_model::ids::{DiskGid, DiskOwner, DiskUid, InsideGid, InsideUid, UserNamespace};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::MountTable;
use mivask_model::outcome::{Effect, Imprint};
use mivask_model::tree::{Certainty, Content, Device, Doubt, Entry, InodeId, Marks, Tree, TreeError};
use mivask_rules::lookup::{End, Sight};
use mivask_rules::view::Place;

/// Through which mounts and in which user namespace an act's effect is given.
pub(super) type SeenBy<'a> = (&'a MountTable, &'a UserNamespace);

/// What happens to a tree.
#[derive(Clone, Debug)]
pub(crate) enum Edit {
    /// Nothing that a later act could see, but what an overlay copies for it.
    Touch(InodeId),
    /// A new entry of a directory, asked for with this mode.
    Add(InodeId, Vec<u8>, Box<Entry>, Mode),
    /// A further name.
    Link(InodeId, Vec<u8>, InodeId),
    /// Another name, perhaps in another directory.
    Move((InodeId, Vec<u8>), (InodeId, Vec<u8>)),
    /// Two names for each other.
    Exchange((InodeId, Vec<u8>), (InodeId, Vec<u8>)),
    /// Another default ACL, with stored ids, or none.
    DefaultAcl(InodeId, Option<AclText>),
    /// No access ACL; the mode stays.
    NoAcl(InodeId, Option<Mode>),
    /// One name less.
    Remove(InodeId, Vec<u8>),
    /// Another owner and mode; an ACL follows the mode.
    Become(InodeId, Box<Entry>),
    /// Another owner and mode through chown(2), which takes a file's capabilities even where it names no id
    /// (`chown_common`: ATTR_KILL_PRIV).
    Chown(InodeId, Box<Entry>),
    /// More bytes, and perhaps another mode; capabilities go (`file_remove_privs`).
    Write(InodeId, Option<Mode>, Provenance),
    /// File capabilities without any in them.
    Uncapable(InodeId),
    /// A label that nobody named.
    Relabel(InodeId),
    /// Another access ACL, with stored ids, and the mode that goes with it.
    Acl(InodeId, AclText, Mode, Provenance),
    /// No bytes any more, and perhaps another mode.
    Empty(InodeId, Option<Mode>, Provenance),
}

impl Edit {
    /// What `act` changes; `None` where that is in a directory that is not listed.
    pub(super) fn of(
        seen_by: SeenBy<'_>,
        act: &Act,
        effect: &Effect,
        end: &End,
        second: Option<&End>,
    ) -> Option<Self> {
        let place = Provenance::Act(act.to_string().into());
        let named = |end: &End| end.directory.inode.zip(end.name.clone());
        let there = || if let Sight::There(place) = end.sight { place.inode } else { None };
        if let Some(second) = second {
            // The directory itself may hold more than is listed; the new name is known to be free or replaced.
            let (dir, name) = named(second)?;
            if matches!(act.verb, Verb::Links(_) | Verb::LinksTarget(_)) {
                return Some(Self::Link(dir, name, there()?));
            }
            let moved = named(end)?;
            let exchange = matches!(act.verb, Verb::Exchanges(_));
            return Some(if exchange {
                Self::Exchange(moved, (dir, name))
            } else {
                Self::Move(moved, (dir, name))
            });
        }
        if act.verb.creates() && effect.imprint.is_some() && !matches!(end.sight, Sight::There(_)) {
            let (dir, name) = named(end)?;
            let entry = entry_of(act, effect.imprint.as_ref()?, place);
            let asked = act.verb.mode().unwrap_or(Mode::new(0o666));
            return Some(Self::Add(dir, name, Box::new(entry), asked));
        }
        if matches!(act.verb, Verb::Deletes | Verb::RemovesDirectory) {
            there()?;
            let (dir, name) = named(end)?;
            return Some(Self::Remove(dir, name));
        }
        if let Verb::Tags(name) = &act.verb {
            return Some(tagged(name, there()?));
        }
        if matches!(act.verb, Verb::Stamps | Verb::Backdates) {
            return Some(Self::Touch(there()?));
        }
        let id = there()?;
        if act.verb == Verb::RemovesAcl {
            return Some(Self::NoAcl(id, effect.imprint.as_ref().and_then(|left| left.mode)));
        }
        if act.verb == Verb::RemovesDefaultAcl {
            return Some(Self::DefaultAcl(id, None));
        }
        if let (Verb::SetsDefaultAcl(text), Sight::There(at)) = (&act.verb, end.sight) {
            return Some(Self::DefaultAcl(id, Some(stored(seen_by, text, at)?)));
        }
        if act.verb.writes() {
            return Some(Self::Write(id, effect.imprint.as_ref().and_then(|left| left.mode), place));
        }
        if matches!(act.verb, Verb::Truncates | Verb::Overwrites | Verb::Shortens) {
            return Some(Self::Empty(id, effect.imprint.as_ref().and_then(|left| left.mode), place));
        }
        let left = effect.imprint.as_ref()?;
        if let (Verb::SetsAcl(text), Some(mode), Sight::There(at)) = (&act.verb, left.mode, end.sight) {
            return Some(Self::Acl(id, stored(seen_by, text, at)?, mode, place));
        }
        let entry = Box::new(entry_of(act, left, place));
        let chown = matches!(
            act.verb,
            Verb::SetsOwner(_) | Verb::SetsGroup(_) | Verb::SetsLinkOwner(_) | Verb::SetsLinkGroup(_)
        );
        Some(if chown { Self::Chown(id, entry) } else { Self::Become(id, entry) })
    }

    /// The place on the disk it is about: an inode itself, or the directory of a name.
    pub(super) fn within(&self, end: &End) -> Place {
        match (self, end.sight) {
            (
                Self::Become(..)
                | Self::Chown(..)
                | Self::Write(..)
                | Self::Uncapable(_)
                | Self::Relabel(_)
                | Self::DefaultAcl(..)
                | Self::NoAcl(..)
                | Self::Empty(..)
                | Self::Acl(..),
                Sight::There(place),
            ) => place,
            (
                Self::Touch(_)
                | Self::Add(..)
                | Self::Link(..)
                | Self::Move(..)
                | Self::Remove(..)
                | Self::Become(..)
                | Self::Chown(..)
                | Self::Write(..)
                | Self::Uncapable(_)
                | Self::Relabel(_)
                | Self::Exchange(..)
                | Self::DefaultAcl(..)
                | Self::NoAcl(..)
                | Self::Acl(..)
                | Self::Empty(..),
                _,
            ) => end.directory,
        }
    }

    /// Notes what an overlay copies to its upper layer for it (`ovl_copy_up`): what is changed, and directories whose names are.
    fn copy_up(&self, tree: &mut Tree) {
        let mut all = Vec::new();
        match self {
            Self::Touch(id)
            | Self::Become(id, ..)
            | Self::Chown(id, ..)
            | Self::Write(id, ..)
            | Self::Uncapable(id)
            | Self::Relabel(id)
            | Self::DefaultAcl(id, ..)
            | Self::NoAcl(id, ..)
            | Self::Acl(id, ..)
            | Self::Empty(id, ..)
            | Self::Add(id, ..)
            | Self::Remove(id, _) => all.push(*id),
            Self::Link(dir, _, id) => all.extend([*dir, *id]),
            Self::Move((dir, name), (to, new)) | Self::Exchange((dir, name), (to, new)) => {
                all.extend([*dir, *to]);
                all.extend(tree.lookup(*dir, name));
                all.extend(tree.lookup(*to, new));
            }
        }
        for id in all {
            tree.copy_up(id);
        }
    }

    /// Makes the change.
    ///
    /// # Errors
    /// The tree cannot take it.
    pub(crate) fn apply(&self, tree: &mut Tree) -> Result<(), TreeError> {
        self.copy_up(tree);
        match self {
            Self::Touch(_) => {}
            Self::Add(dir, name, entry, asked) => add(tree, (*dir, name), entry, *asked)?,
            Self::Link(dir, name, id) => tree.link(*dir, name, *id)?,
            Self::Move((dir, name), (to, new)) => tree.move_entry((*dir, name), (*to, new))?,
            Self::Exchange((dir, name), (to, new)) => tree.exchange((*dir, name), (*to, new))?,
            Self::DefaultAcl(id, text) => {
                let acl = text.as_ref().and_then(|text| acl(tree, *id, text));
                if tree.inode(*id).kind == FileKind::Directory {
                    tree.set_default_acl(*id, acl);
                }
            }
            Self::NoAcl(id, left) => {
                let mode = left.unwrap_or_else(|| tree.inode(*id).stored_mode());
                tree.set_access_acl(*id, None, mode, Provenance::rule("an act"));
            }
            Self::Remove(dir, name) => tree.forget(*dir, name),
            Self::Become(id, entry) => becomes(tree, *id, entry),
            Self::Chown(id, entry) => {
                becomes(tree, *id, entry);
                if tree.inode(*id).kind != FileKind::Directory {
                    tree.drop_capabilities(*id);
                }
            }
            Self::Write(id, mode, place) => {
                if tree.inode(*id).kind == FileKind::File {
                    tree.fill(*id);
                    tree.drop_capabilities(*id);
                    if let Some(mode) = mode {
                        tree.set_mode(*id, *mode, place.clone());
                    }
                }
            }
            Self::Relabel(id) => tree.set_label(*id, None, true),
            Self::Uncapable(id) => tree.set_capabilities(*id, FileCapabilities::NONE),
            Self::Acl(id, text, mode, place) => {
                tree.set_access_acl(*id, acl(tree, *id, text), *mode, place.clone());
            }
            Self::Empty(id, mode, place) => {
                tree.empty(*id);
                if let Some(mode) = mode {
                    tree.set_mode(*id, *mode, place.clone());
                }
            }
        }
        Ok(())
    }
}

/// What setting an attribute changes.
fn tagged(name: &[u8], id: InodeId) -> Edit {
    match name {
        b"security.capability" => Edit::Uncapable(id),
        b"security.selinux" => Edit::Relabel(id),
        _ => Edit::Touch(id),
    }
}

/// Makes an entry, with what the directory's default ACL and layer give it.
fn add(tree: &mut Tree, (dir, name): (InodeId, &[u8]), entry: &Entry, asked: Mode) -> Result<(), TreeError> {
    let mut entry = entry.clone();
    if entry.kind != FileKind::Link {
        entry.extended.access = tree.default_acl(dir).map(|default| default.inherited(asked));
    }
    if tree.inode(dir).marks.has(Marks::LOWER) || tree.inode(dir).marks.has(Marks::UPPER) {
        entry.marks = entry.marks.with(Marks::UPPER);
    }
    let directory = entry.kind == FileKind::Directory;
    entry.extended.default = if directory { tree.default_acl(dir).cloned() } else { None };
    tree.add(dir, name, entry)?;
    Ok(())
}

/// The ACL of stored ids that `text` gives `id`.
fn acl(tree: &Tree, id: InodeId, text: &AclText) -> Option<Acl> {
    text.over(tree.inode(id).stored_mode(), |uid| Some(DiskUid::new(uid)), |gid| Some(DiskGid::new(gid)))
}

fn becomes(tree: &mut Tree, id: InodeId, entry: &Entry) {
    let place = entry.place.clone().unwrap_or_else(|| Provenance::rule("an act"));
    let owner = DiskOwner { uid: entry.uid, gid: entry.gid };
    let before = tree.inode(id).stored_owner();
    tree.set_mode(id, entry.mode, place.clone());
    if owner != before {
        tree.own(id, owner, entry.mode, place);
    }
    if let Some(doubt) = &entry.doubt {
        tree.doubt_owner_and_mode(id, doubt.owner.clone(), doubt.mode.clone());
    }
}

/// The inode that `act` leaves or makes.
fn entry_of(act: &Act, left: &Imprint, from: Provenance) -> Entry {
    let (kind, device) = kind(&act.verb);
    let owner = left.disk_uid.zip(left.disk_gid).zip(left.mode);
    let doubt = owner.is_none().then(|| doubt(act));
    let ((uid, gid), mode) =
        owner.map_or(((0, 0), Mode::default()), |((uid, gid), mode)| ((uid.raw(), gid.raw()), mode));
    let mut entry = Entry::new(kind, uid, gid, mode).at(from);
    entry.device = device;
    entry.doubt = doubt;
    entry.content = if kind == FileKind::File { Content::Empty } else { Content::Unknown };
    entry.extended.label.clone_from(&left.disk_label);
    entry.extended.labelled_since = left.disk_label.is_some();
    if let Verb::Points(target) = &act.verb {
        entry.target = target.as_slice().into();
    }
    entry
}

fn kind(verb: &Verb) -> (FileKind, Option<Device>) {
    if let Verb::MakesNode(node, _) = verb {
        return (node.kind, node.kind.is_device().then_some(node.device));
    }
    (verb.makes().unwrap_or(FileKind::File), None)
}

fn doubt(act: &Act) -> Doubt {
    let fact = format!("owner and mode of what `{act}` leaves");
    let unknown = Unknown::new(&fact, "settle what that act depends on");
    Doubt::new(Certainty::Unknown(unknown), Certainty::Known)
}

/// An ACL as the actor writes it, with ids as they are stored.
pub(super) fn stored((table, namespace): SeenBy<'_>, text: &AclText, place: Place) -> Option<AclText> {
    let ids = &table.get(place.mount).facts.ids;
    let mut text = text.clone();
    for (uid, _) in &mut text.users {
        *uid = ids.to_disk_uid(namespace.to_kernel_uid(InsideUid::new(*uid))?)?.raw();
    }
    for (gid, _) in &mut text.groups {
        *gid = ids.to_disk_gid(namespace.to_kernel_gid(InsideGid::new(*gid))?)?.raw();
    }
    Some(text)
}
