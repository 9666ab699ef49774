//! setxattr(2) and removexattr(2) of access and default ACLs (`vfs_set_acl`, `vfs_remove_acl`, `set_posix_acl` in
//! fs/posix_acl.c).

use mivask_model::acl::{Acl, AclText};
use mivask_model::fact::Unknown;
use mivask_model::ids::{InsideGid, InsideUid};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::outcome::{Effect, Errno, Imprint, Verdict};
use mivask_model::personality::{Feature, Personality};
use mivask_model::tree::{Certainty, InodeId, Marks, Tree};

use super::after::{After, left, unknown};
use super::attributes::{kept, owned, stored_ids};
use super::feature::supports;
use super::writable::{mapped, unlocked, writable_mount};
use crate::asked::subject;
use crate::confined::Permission;
use crate::imprint::shown;
use crate::trace::Check;
use crate::view::{Place, View};
use crate::walk::{Follow, Walker};
use crate::witness::{MissingFact, Witness};

const RULE: &str = "only the owner changes the ACL";

/// setxattr(2) of the access ACL: its ids must exist in the actor's namespace (EINVAL), then the inode may be
/// written to (EPERM), then the owner alone may, then the ids must be expressed on the mount (EINVAL).
pub(super) fn set<'a, W: Witness>(view: &'a View<'a>, text: &AclText, path: &'a [u8], w: &mut W) -> Verdict {
    let mut walker = Walker::new(view, w);
    let place = takes_ids(&mut walker, text, path)?;
    changeable(&mut walker, place)?;
    // Before the owner (`vfs_set_acl`, `vfs_remove_acl`).
    walker.inode_has(place, Permission::Setattr)?;
    owned(&mut walker, place, RULE)?;
    let before = walker.asked(place).mode();
    let acl = stored(&mut walker, place, text, before)?;
    // Entries that are left out come from the mode, so without one neither is known.
    let Some(before) = before else {
        return Ok(unknown());
    };
    let mode = Some(kept(&mut walker, place, acl.applied_to(before)));
    let acl = (!acl.is_minimal()).then_some(acl);
    let (uid, gid) = stored_ids(view, place);
    Ok(left(&mut walker, place, &After { uid, gid, mode, acl }))
}

/// Gives the directory at `path` this default ACL: ids are checked as for an access ACL, and only a directory takes one
/// (EACCES).
pub(super) fn set_default<'a, W: Witness>(
    view: &'a View<'a>,
    text: &AclText,
    path: &'a [u8],
    w: &mut W,
) -> Verdict {
    let mut walker = Walker::new(view, w);
    let place = takes_ids(&mut walker, text, path)?;
    changeable(&mut walker, place)?;
    if view.is_not(place, FileKind::Directory) {
        let fact = "only directories have a default ACL";
        return Err(walker.fail(Check::Kind, fact, place, Errno::EACCES));
    }
    // Before the owner (`vfs_set_acl`, `vfs_remove_acl`).
    walker.inode_has(place, Permission::Setattr)?;
    owned(&mut walker, place, RULE)?;
    let before = walker.asked(place).mode();
    let acl = stored(&mut walker, place, text, before)?;
    let Some(mode) = before else { return Ok(unknown()) };
    let (uid, gid) = stored_ids(view, place);
    let effect = left(&mut walker, place, &After { uid, gid, mode: Some(mode), acl: None });
    let default_acl = W::TRACING.then(|| shown(view, place, &acl));
    Ok(Effect { imprint: effect.imprint.map(|imprint| Imprint { default_acl, ..imprint }), ..effect })
}

/// The place at `path`, where the mount can be written and the ids of `text` exist in the actor's namespace.
fn takes_ids<'a, W: Witness>(
    walker: &mut Walker<'a, '_, W>,
    text: &AclText,
    path: &'a [u8],
) -> Result<Place, Errno> {
    let place = walker.place(path, Follow::Links)?;
    writable_mount(walker, place)?;
    let namespace = &walker.view().who.namespace;
    let inside = text.all(
        |uid| namespace.to_kernel_uid(InsideUid::new(uid)).is_some(),
        |gid| namespace.to_kernel_gid(InsideGid::new(gid)).is_some(),
    );
    if inside {
        return Ok(place);
    }
    let fact = "an id in the ACL has no mapping in the actor's user namespace";
    Err(walker.fail(Check::Unmapped, fact, place, Errno::EINVAL))
}

/// The ACL as the inode keeps it, over the mode there was.
fn stored<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
    text: &AclText,
    before: Option<Mode>,
) -> Result<Acl, Errno> {
    let view = walker.view();
    let (ids, namespace) = (&view.mount(place.mount).facts.ids, &view.who.namespace);
    let acl = text.over(
        before.unwrap_or_default(),
        |uid| ids.to_disk_uid(namespace.to_kernel_uid(InsideUid::new(uid))?),
        |gid| ids.to_disk_gid(namespace.to_kernel_gid(InsideGid::new(gid))?),
    );
    acl.ok_or_else(|| {
        let fact = "an id in the ACL cannot be expressed on this mount";
        walker.fail(Check::Unmapped, fact, place, Errno::EINVAL)
    })
}

/// Takes the default or the access ACL away; the mode stays, with the mask as the group's bits. Some file systems take a
/// set-group-id bit with the access ACL, as chmod does.
pub(super) fn remove<'a, W: Witness>(
    view: &'a View<'a>,
    default: bool,
    path: &'a [u8],
    w: &mut W,
) -> Verdict {
    let mut walker = Walker::new(view, w);
    let place = walker.place(path, Follow::Links)?;
    writable_mount(&mut walker, place)?;
    changeable(&mut walker, place)?;
    // What has none loses none, whoever asks.
    if default && view.is_not(place, FileKind::Directory) {
        return Ok(Effect::default());
    }
    // Before the owner (`vfs_set_acl`, `vfs_remove_acl`).
    walker.inode_has(place, Permission::Setattr)?;
    owned(&mut walker, place, RULE)?;
    let before = walker.asked(place).mode();
    let drops = !default && view.source(place).facts.personality.drops_set_group_id_with_acl();
    let mode = before.map(|before| if drops { kept(&mut walker, place, before) } else { before });
    // What loses set-group-id is copied up by that, before the ACL is looked for.
    if view.source(place).facts.personality == Personality::Overlay && mode == before {
        to_copy_up(&mut walker, place, default)?;
    }
    if default {
        return Ok(Effect::default());
    }
    if mode.is_none() {
        return Ok(unknown());
    }
    let (uid, gid) = stored_ids(view, place);
    Ok(left(&mut walker, place, &After { uid, gid, mode, acl: None }))
}

/// An overlay copies nothing up to remove an ACL that is not there (`ovl_set_or_remove_acl`).
fn to_copy_up<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place, default: bool) -> Result<(), Errno> {
    let view = walker.view();
    let tree = &view.source(place).tree;
    let Some(id) = place.inode else { return Ok(()) };
    if !view.has_marks(place, Marks::LOWER) || is_copied_up(tree, id) {
        return Ok(());
    }
    let held = if default { tree.default_acl(id) } else { tree.acl(id) };
    // Whose owner and mode are not given is not known to have none either.
    let doubt = tree.doubt(id);
    let listed = doubt.is_none_or(|doubt| !matches!(doubt.contents, Certainty::Unknown(_)));
    let told = tree.unrecorded().acls.is_none() && listed && walker.asked(place).mode().is_some();
    if held.is_some() || (!told && may_have(walker, place)) {
        return Ok(());
    }
    let fact = "the file of the lower layer (the image) has no such ACL";
    Err(walker.fail(Check::Feature, fact, place, Errno::ENODATA))
}

/// Whether the upper layer has it too: a directory with something of the upper layer below it is there as well.
fn is_copied_up(tree: &Tree, id: InodeId) -> bool {
    let mut pending = vec![id];
    while let Some(id) = pending.pop() {
        let marks = tree.inode(id).marks;
        if marks.has(Marks::MERGED) || !marks.has(Marks::LOWER) {
            return true;
        }
        pending.extend(tree.children(id).map(|(_, child)| child));
    }
    false
}

fn may_have<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> bool {
    let path = walker.path_text().into_owned();
    let unknown = Unknown::new(&format!("whether {path} has an ACL"), "give the tree with its ACLs");
    let question = MissingFact::Attribute(subject(place, walker.path()));
    let describe = |option| format!("{path} has {} ACL", if option == 0 { "an" } else { "no" });
    walker.witness().choose(question, &unknown, 2, describe) == 0
}

fn changeable<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Result<(), Errno> {
    unlocked(walker, place, true)?;
    mapped(walker, place, Errno::EPERM)?;
    supports(walker, place, Feature::Acls)
}
