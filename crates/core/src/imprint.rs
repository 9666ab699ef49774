//! Owner, group, mode and ACL of a new inode (`inode_init_owner`, `vfs_prepare_mode`, `posix_acl_create`).

use crate::caps::Capability;
use crate::fact::Provenance;
use crate::ids::{DiskGid, DiskUid, InsideGid, InsideUid, OVERFLOW_ID};
use crate::mode::{FileKind, Mode};
use crate::outcome::Imprint;
use crate::trace::Check;
use crate::tree::Certainty;
use crate::view::Place;
use crate::walk::Walker;
use crate::witness::Witness;

/// What is created.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum NewKind {
    /// A regular file.
    File,
    /// A directory.
    Directory,
}

/// What a new entry of `directory` asked for with `requested` will look like.
///
/// Where the directory itself is only presumed to exist, every field is unknown; where its owner and
/// mode are, so are group and mode, which a set-group-id bit or a default ACL would change.
pub fn imprint<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    directory: Place,
    kind: NewKind,
    requested: Mode,
) -> Imprint {
    let view = walker.view();
    let (Some(dir), Some(dir_id)) = (view.inode(directory), directory.inode) else {
        return Imprint::default();
    };
    let who = view.who;
    let ids = &view.mount(directory.mount).ids;
    let dir_group = ids.to_kernel_gid(dir.gid);
    let inherits = dir.mode.has(Mode::SET_GROUP_ID);
    let mut mode = match kind {
        NewKind::File => requested,
        // mkdir takes the nine bits and sticky only.
        NewKind::Directory => requested.masked(Mode::new(0o1777)),
    };
    let stripped = kind == NewKind::File && inherits && mode.has(Mode::new(0o2010));
    let member = dir_group.is_some_and(|group| who.in_group(group));
    let keeps = member || who.capable_for(Capability::Fsetid, ids.to_kernel_uid(dir.uid), dir_group);
    if stripped && !keeps {
        mode = mode.without(Mode::SET_GROUP_ID);
    }
    let tree = &view.source(directory).tree;
    let default = tree.default_acl(dir_id);
    let mut acl = None;
    match default {
        // A default ACL takes the umask's place.
        Some(default) => {
            let (inherited, masked) = default.inherited(mode);
            acl = (!inherited.is_minimal()).then(|| inherited.to_string());
            mode = masked;
        }
        None => mode = mode.without(who.umask),
    }
    let disk_uid = ids.to_disk_uid(who.fsuid).unwrap_or(DiskUid::new(OVERFLOW_ID));
    let own_group = ids.to_disk_gid(who.fsgid).unwrap_or(DiskGid::new(OVERFLOW_ID));
    let disk_gid = if inherits { dir.gid } else { own_group };
    if inherits && kind == NewKind::Directory {
        mode = mode.with(Mode::SET_GROUP_ID);
    }
    let group = if inherits { dir_group } else { Some(who.fsgid) };
    let gid =
        group.and_then(|group| who.namespace.to_inside_gid(group)).unwrap_or(InsideGid::new(OVERFLOW_ID));
    let uid = who.inside_uid().unwrap_or(InsideUid::new(OVERFLOW_ID));
    walker.pass(Check::Imprint, || {
        let why_group =
            if inherits { "the group of the set-group-id directory" } else { "the process's group" };
        let why_mode = match default {
            Some(_) => "the directory's default ACL instead of the umask".to_owned(),
            None => format!("asked for {requested}, umask {}", who.umask),
        };
        (
            format!("new: {uid}:{gid} {mode} ({why_group}; {why_mode})"),
            Provenance::rule("the actor's identity and the directory"),
        )
    });
    let told = Imprint { acl, ..Imprint::new(uid, gid, mode, disk_uid, disk_gid) };
    let unknown =
        view.doubt(directory).is_some_and(|doubt| matches!(doubt.attributes, Certainty::Unknown(_)));
    if unknown { Imprint { uid: told.uid, disk_uid: told.disk_uid, ..Imprint::default() } } else { told }
}

impl NewKind {
    /// The kind of the new inode.
    #[must_use]
    pub const fn file_kind(self) -> FileKind {
        match self {
            Self::File => FileKind::File,
            Self::Directory => FileKind::Directory,
        }
    }
}
