//! Owner, group, mode and ACL of a new inode (`inode_init_owner`, `vfs_prepare_mode`, `posix_acl_create`).

use mivask_model::acl::Acl;
use mivask_model::caps::Capability;
use mivask_model::fact::Provenance;
use mivask_model::ids::{DiskGid, DiskUid, InsideGid, InsideUid, OVERFLOW_ID};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::outcome::Imprint;
use mivask_model::personality::{GroupRule, Personality, Shown};

use crate::asked::Asked;
use crate::trace::Check;
use crate::view::{Place, View};
use crate::walk::Named;
use crate::walk::Walker;
use crate::witness::Witness;

/// What is created.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum NewKind {
    /// A regular file.
    File,
    /// A directory.
    Directory,
    /// A fifo, socket or device.
    Node,
    /// A symbolic link.
    Link,
}

impl NewKind {
    /// The kind of the new inode; a fifo means every node.
    #[must_use]
    pub const fn file_kind(self) -> FileKind {
        match self {
            Self::File => FileKind::File,
            Self::Directory => FileKind::Directory,
            Self::Node => FileKind::Fifo,
            Self::Link => FileKind::Link,
        }
    }
}

/// What a new entry of `directory` asked for with `requested` will look like.
///
/// Its ACL is given only to a witness that traces, since it takes memory of its own.
///
/// Where the directory itself is only presumed to exist, every field is unknown; where its owner and
/// mode are, so are group and mode, which a set-group-id bit or a default ACL would change.
pub fn imprint<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    directory: Place,
    kind: NewKind,
    requested: Mode,
) -> Imprint {
    let mut made = by_owner(walker, directory, kind, requested);
    if walker.view().confined.is_some() {
        let label = walker.label_of_new(directory, kind.file_kind(), Named::Last);
        (made.label, made.disk_label) = label.unzip();
        made.disk_label = made.disk_label.filter(|_| walker.keeps_labels(directory));
    }
    made
}

/// The same without its label.
fn by_owner<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    directory: Place,
    kind: NewKind,
    requested: Mode,
) -> Imprint {
    let view = walker.view();
    let personality = &view.source(directory).facts.personality;
    match personality {
        Personality::Fat(_) | Personality::Cifs(_) => {
            return personality
                .shown()
                .map_or_else(Imprint::default, |shown| uniform(walker, directory, kind, shown));
        }
        Personality::Ntfs(_) | Personality::Remote(_) => return Imprint::default(),
        Personality::Fuse(fuse) if !fuse.goes_by_bits() => return Imprint::default(),
        Personality::Native(_)
        | Personality::Tmpfs(_)
        | Personality::Overlay
        | Personality::Image
        | Personality::Nfs(_)
        | Personality::Kernel(_)
        | Personality::Fuse(_) => {}
    }
    let usual = walker.asked_in(directory).usually_stored();
    if directory.inode.is_none() && usual.is_none() {
        return Imprint::default();
    }
    let acting = walker.fs_credentials(directory);
    let ids = &view.mount(directory.mount).facts.ids;
    let bits = walker.asked_in(directory).mode().or(usual.map(|(_, mode)| mode));
    // Without the directory's bits its ACL is not known either, and with them all but the owner is open.
    let Some(bits) = bits else {
        let uid = acting.uid.id().map(|uid| ids.to_disk_uid(uid).unwrap_or(DiskUid::new(OVERFLOW_ID)));
        return seen(view, directory, Stored { uid, gid: None, mode: None }, None);
    };
    let (from_directory, passes_on) = group_source(personality.group_rule(), bits);
    let mut mode = asked(walker, directory, bits, kind, requested);
    let default = if kind == NewKind::Link { None } else { default_acl(view, directory) };
    let mut acl = None;
    match default {
        // A default ACL takes the umask's place.
        Some(default) => {
            if W::TRACING {
                acl = Some(default.inherited(mode)).filter(|inherited| !inherited.is_minimal());
            }
            mode = default.masked_mode(mode);
        }
        None if kind == NewKind::Link => {}
        None => mode = mode.without(view.who.umask),
    }
    if passes_on && kind == NewKind::Directory {
        mode = mode.with(Mode::SET_GROUP_ID);
    }
    let disk_uid = acting.uid.id().map(|uid| ids.to_disk_uid(uid).unwrap_or(DiskUid::new(OVERFLOW_ID)));
    let own_group = acting.gid.id().map(|gid| ids.to_disk_gid(gid).unwrap_or(DiskGid::new(OVERFLOW_ID)));
    let above = view.owner(directory).and_then(|owner| owner.value()).or(usual.map(|(owner, _)| owner));
    let above = above.map(|owner| owner.gid);
    let disk_gid = if from_directory { above } else { own_group };
    let stored = Stored { uid: disk_uid, gid: disk_gid, mode: Some(mode) };
    let mut given = seen(view, directory, stored, acl.as_ref());
    if let Some(default) = default.filter(|_| W::TRACING && kind == NewKind::Directory) {
        given.default_acl = Some(shown(view, directory, default));
    }
    note(walker, &given, mode, requested, from_directory, default.is_some());
    given
}

fn default_acl<'a>(view: &View<'a>, directory: Place) -> Option<&'a Acl> {
    directory.inode.and_then(|id| view.source(directory).tree.default_acl(id))
}

/// Whether the group comes from the directory, and whether a new directory inherits the set-group-id bit.
const fn group_source(rule: GroupRule, bits: Mode) -> (bool, bool) {
    let set = bits.has(Mode::SET_GROUP_ID);
    match rule {
        GroupRule::Process => (set, set),
        GroupRule::Directory => (true, false),
        GroupRule::DirectoryUnlessSetGroupId => (true, set),
    }
}

/// What is left of the requested mode before umask or ACL: mkdir takes the nine bits and sticky only, and a
/// set-group-id bit in a set-group-id directory takes membership of its group, or FSETID (`mode_strip_sgid`).
fn asked<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    directory: Place,
    bits: Mode,
    kind: NewKind,
    requested: Mode,
) -> Mode {
    match kind {
        NewKind::Directory => requested.masked(Mode::new(0o1777)),
        NewKind::Link => Mode::new(0o777),
        NewKind::File | NewKind::Node => {
            let checked = bits.has(Mode::SET_GROUP_ID) && requested.has(Mode::new(0o2010));
            let acting = walker.fs_credentials(directory);
            let mut asked = walker.asked_in(directory);
            let keeps = |asked: &mut Asked<'_, '_, W>| {
                asked.is_surely_under(&acting, Capability::Fsetid)
                    || asked.shares_group(&acting)
                    || asked.is_under(&acting, Capability::Fsetid)
            };
            if checked && !keeps(&mut asked) { requested.without(Mode::SET_GROUP_ID) } else { requested }
        }
    }
}

/// Everything on such a filesystem shows one owner and mode; neither umask nor the asked-for mode counts.
fn uniform<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    directory: Place,
    kind: NewKind,
    shown: Shown,
) -> Imprint {
    let view = walker.view();
    let mode = shown.mode(kind.file_kind());
    walker.pass(Check::Imprint, || {
        (format!("new: everything here shows {}:{} {mode}", shown.uid, shown.gid), view.provenance(directory))
    });
    let stored = Stored { uid: Some(shown.uid), gid: Some(shown.gid), mode: Some(mode) };
    seen(view, directory, stored, None)
}

/// Owner, group and mode as stored; `None` for each that is not known.
#[derive(Clone, Copy)]
pub(crate) struct Stored {
    pub uid: Option<DiskUid>,
    pub gid: Option<DiskGid>,
    pub mode: Option<Mode>,
}

/// An inode of these stored ids, as the actor sees it through the mount of `place`.
pub(crate) fn seen(view: &View<'_>, place: Place, stored: Stored, acl: Option<&Acl>) -> Imprint {
    let Stored { uid: disk_uid, gid: disk_gid, mode } = stored;
    let namespace = &view.who.namespace;
    let ids = &view.mount(place.mount).facts.ids;
    let uid = disk_uid.map(|uid| {
        let inside = ids.to_kernel_uid(uid).and_then(|uid| namespace.to_inside_uid(uid));
        inside.unwrap_or(InsideUid::new(OVERFLOW_ID))
    });
    let gid = disk_gid.map(|gid| {
        let inside = ids.to_kernel_gid(gid).and_then(|gid| namespace.to_inside_gid(gid));
        inside.unwrap_or(InsideGid::new(OVERFLOW_ID))
    });
    let acl = acl.map(|acl| shown(view, place, acl));
    Imprint { uid, gid, mode, disk_uid, disk_gid, acl, default_acl: None, label: None, disk_label: None }
}

/// An ACL with stored ids in the text form of acl(5), as the actor sees it through the mount of `place`.
pub(crate) fn shown(view: &View<'_>, place: Place, acl: &Acl) -> String {
    let namespace = &view.who.namespace;
    let ids = &view.mount(place.mount).facts.ids;
    acl.seen(
        |uid| namespace.to_inside_uid(ids.to_kernel_uid(uid)?).map(InsideUid::raw),
        |gid| namespace.to_inside_gid(ids.to_kernel_gid(gid)?).map(InsideGid::raw),
    )
    .to_string()
}

fn note<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    given: &Imprint,
    mode: Mode,
    requested: Mode,
    from_directory: bool,
    by_acl: bool,
) {
    let umask = walker.view().who.umask;
    walker.pass(Check::Imprint, || {
        let id = |id: Option<String>| id.unwrap_or_else(|| "?".to_owned());
        let uid = id(given.uid.map(|id| id.to_string()));
        let gid = id(given.gid.map(|id| id.to_string()));
        let why_group = if from_directory { "the group of the directory" } else { "the process's group" };
        let why_mode = if by_acl {
            "the directory's default ACL instead of the umask".to_owned()
        } else {
            format!("asked for {requested}, umask {umask}")
        };
        let from = Provenance::rule("the actor's identity and the directory");
        (format!("new: {uid}:{gid} {mode} ({why_group}; {why_mode})"), from)
    });
}
