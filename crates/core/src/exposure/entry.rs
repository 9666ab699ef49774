//! What one inode shows to one actor.

use std::cell::Cell as Flag;
use std::collections::{BTreeMap, BTreeSet};

use mivask_model::credentials::Credentials;
use mivask_model::ids::DiskOwner;
use mivask_model::ids::KernelUid;
use mivask_model::mode::{Access, Concern, FileKind, Mode, concerns, symbolic};
use mivask_model::mount::{Mount, MountFlags, MountOrigin};
use mivask_model::mount_kind::MountKind;
use mivask_model::outcome::Errno;
use mivask_model::tree::{Content, Inode, InodeId, Marks, Tree};
use mivask_rules::lookup::{Sight, look as see};
use mivask_rules::usual::variant;
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

use super::secret::is_secret;
use super::strict::{Whose, strict};
use super::{Kind, Severity, Single, limit, listed, path_text};
use crate::question::{Cell, Column, Swept};
use crate::width::{Width, width};

/// Directories of a host that give away the host to whoever writes there.
const HOST_ITSELF: [&str; 16] = [
    "/", "/bin", "/boot", "/dev", "/etc", "/lib", "/lib64", "/proc", "/root", "/run", "/sbin", "/sys",
    "/usr", "/var", "/var/run", "/var/lib",
];

/// One inode as one actor meets it.
struct Met<'a> {
    stage: &'a Stage,
    actor: &'a Actor,
    who: &'a Credentials,
    groups: &'a BTreeMap<u32, BTreeSet<String>>,
    mount: &'a Mount,
    tree: &'a Tree,
    id: InodeId,
    inode: &'a Inode,
    swept: &'a Swept<'a>,
    on: std::sync::Arc<str>,
    /// Whether that it is met, or what it is, is only usual.
    usually_reached: bool,
    /// Whether what was looked at for a finding so far is only usual.
    usual: Flag<bool>,
}

/// Adds what is found about `swept`.
pub(super) fn look(
    stage: &Stage,
    (actor, who): (&Actor, &Credentials),
    groups: &BTreeMap<u32, BTreeSet<String>>,
    swept: &Swept<'_>,
    singles: &mut Vec<Single>,
) {
    let mount = actor.mounts.get(swept.place.mount);
    let Some(id) = swept.place.inode else { return };
    if !matches!(mount.origin, MountOrigin::Declared | MountOrigin::Root) || swept.kind == FileKind::Link {
        return;
    }
    let tree = &*stage.source(swept.place.source).tree;
    let untold = tree.doubt(id).is_some_and(|doubt| !doubt.knows_attributes());
    let Some(usually_reached) = reached(mount, swept) else { return };
    if untold {
        return;
    }
    let on = limit::on(stage, actor, swept.place);
    let inode = tree.inode(id);
    let usual = Flag::new(usually_reached);
    let met = Met { stage, actor, who, groups, mount, tree, id, inode, swept, on, usually_reached, usual };
    met.open_to_all(singles);
    met.afresh().shared(singles);
    met.afresh().set_id_program(singles);
    let looked_at = met.afresh().strict(singles);
    met.afresh().secret(looked_at, singles);
    met.afresh().host(singles);
    met.afresh().program(singles);
    met.afresh().missing_execute(singles);
}

/// Whether an entry is reached: `Some(true)` where that, or its owner and mode, are only usual.
fn reached(mount: &Mount, swept: &Swept<'_>) -> Option<bool> {
    let usually_used = || swept.endings.iter().any(|(_, ending)| ending.usual == Some(Cell::Allowed));
    // Several sources are possible: what is looked at is the first, which is the usual one or none.
    let several = mount.variants.len() > 1;
    let first_is_usual = mount.facts.question.as_ref().and_then(variant).is_some();
    match (swept.shut, several) {
        (false, false) => Some(false),
        (false, true) => first_is_usual.then_some(true),
        (true, several) => (usually_used() && (first_is_usual || !several)).then_some(true),
    }
}

impl Met<'_> {
    /// For the next finding.
    fn afresh(&self) -> &Self {
        self.usual.set(self.usually_reached);
        self
    }

    fn single(&self, kind: Kind, severity: Severity, consequence: String) -> Single {
        let mode = self.inode.stored_mode();
        let DiskOwner { uid, gid } = self.inode.stored_owner();
        Single {
            kind,
            severity,
            on: self.on.clone(),
            path: self.swept.path.to_vec(),
            actor: Some(self.actor.name.to_string()),
            fact: format!("{} {mode} {uid}:{gid}", symbolic(self.swept.kind, mode)),
            consequence,
            from: self.tree.place(self.id),
            declared: false,
            usual: self.usual.get(),
        }
    }

    fn directory(&self) -> bool {
        self.swept.kind == FileKind::Directory
    }

    /// Whether it is allowed, certainly or usually.
    fn allowed(&self, column: Column) -> bool {
        let ending = self.swept.endings.of(column);
        let allowed = ending.certain_or_usual() == Some(Cell::Allowed);
        self.usual.set(self.usual.get() || allowed && ending.cell == Cell::Open);
        allowed
    }

    /// Changes the file, or the entries of the directory; for a socket, connects to it.
    fn writes(&self) -> bool {
        // A socket is never opened, but only whoever may write to it is given so (`may_open` of the kernel): it may connect.
        if self.swept.kind == FileKind::Socket {
            return self.swept.cell(Column::Write) == Cell::Denied(Errno::ENXIO);
        }
        self.allowed(if self.directory() { Column::Create } else { Column::Write })
    }

    fn owns(&self) -> bool {
        self.mount
            .facts
            .ids
            .to_kernel_uid(self.inode.stored_owner().uid)
            .is_some_and(|uid| self.who.fsuid.is(uid))
    }

    fn is_privileged(&self) -> bool {
        self.who.fsuid.is(KernelUid::new(0)) || !self.who.effective.is_empty()
    }

    fn open_to_all(&self, singles: &mut Vec<Single>) {
        let needed = if self.directory() { Access::WRITE_EXECUTE } else { Access::WRITE };
        if !self.inode.stored_mode().other().grants(needed) || self.inode.kind.is_device() {
            return;
        }
        let sticky = self.directory() && self.inode.stored_mode().has(Mode::STICKY);
        // The /tmp of an image is the container's own.
        if sticky && self.mount.origin == MountOrigin::Root {
            return;
        }
        // Its modes say 0777, and no one but the kubelet writes there.
        if self.mount.is_written_by_kubelet() {
            return;
        }
        // An emptyDir is 0777 by rule, and no one outside the pod reaches it.
        let severity =
            if self.mount.facts.kind == MountKind::EmptyDir { Severity::Medium } else { Severity::High };
        singles.push(match (self.directory(), sticky) {
            (true, true) => self.single(
                Kind::WorldWritableSticky,
                Severity::Low,
                "whoever reaches it can fill it up, or plant files under names that others will open"
                    .to_owned(),
            ),
            (true, false) => self.single(
                Kind::WorldWritable,
                severity,
                "whoever reaches it can remove or replace everyone else's files there".to_owned(),
            ),
            (false, _) => self.single(
                Kind::WorldWritable,
                severity,
                "whoever reaches it can rewrite it, and its readers trust what anyone wrote".to_owned(),
            ),
        });
    }

    fn shared(&self, singles: &mut Vec<Single>) {
        let needed = if self.directory() { Access::WRITE_EXECUTE } else { Access::WRITE };
        let gid = self.mount.facts.ids.to_kernel_gid(self.inode.stored_owner().gid);
        let Some(members) = gid.and_then(|gid| self.groups.get(&gid.raw())) else { return };
        let writes = self.inode.stored_mode().group().grants(needed)
            && !self.inode.stored_mode().other().grants(needed);
        // Its owner and root would write it all the same.
        if !writes || !self.writes() || self.owns() || self.is_privileged() {
            return;
        }
        let text = format!(
            "any member of group {} ({}) can rewrite what the others rely on",
            self.inode.stored_owner().gid,
            listed(members)
        );
        singles.push(self.single(Kind::GroupShared, Severity::Low, text));
    }

    fn set_id_program(&self, singles: &mut Vec<Single>) {
        let mode = self.inode.stored_mode();
        let user = mode.has(Mode::SET_USER_ID);
        let group = mode.has(Mode::new(0o2010));
        let works = !self.mount.flags.has(MountFlags::NO_SUID) && !self.who.no_new_privileges;
        // The kernel takes the ids of a script's interpreter (`bprm_fill_uid` of the last program alone).
        let script = matches!(self.tree.content(self.id), Content::Script(_));
        let set_id = (user || group) && works && !script;
        if self.swept.kind != FileKind::File || !set_id || !self.allowed(Column::Run) {
            return;
        }
        let owner = self.mount.facts.ids.to_kernel_uid(self.inode.stored_owner().uid);
        if user && !self.owns() {
            let (severity, whom) = match owner.map(|uid| uid.raw()) {
                Some(0) => (Severity::High, "root".to_owned()),
                _ => (Severity::Medium, format!("uid {}", self.inode.stored_owner().uid)),
            };
            let text = format!("a flaw in it turns {} into {whom}", self.actor.name);
            singles.push(self.single(Kind::SetId, severity, text));
        } else if group && !self.is_privileged() {
            let text =
                format!("a flaw in it gives {} the group {}", self.actor.name, self.inode.stored_owner().gid);
            singles.push(self.single(Kind::SetId, Severity::Medium, text));
        }
    }

    /// Whether a program is known that looks at the mode of such a file; a finding where it would not take it.
    fn strict(&self, singles: &mut Vec<Single>) -> bool {
        if self.swept.kind != FileKind::File || !self.allowed(Column::Read) {
            return false;
        }
        let owner = self.mount.facts.ids.to_kernel_uid(self.inode.stored_owner().uid);
        let root = owner.is_some_and(|uid| uid.raw() == 0);
        let whose = match (self.owns(), root) {
            (true, _) => Whose::Own,
            (false, true) => Whose::Root,
            (false, false) => Whose::Other,
        };
        let sees = |path: &[u8]| see(&self.stage.storage, &self.actor.mounts, path, Follow::Links);
        let there = |path: &[u8]| matches!(sees(path), Ok(Sight::There(_)));
        let Some(strict) = strict(self.swept.path, whose, &there) else { return false };
        let Width::Wide(wide) = width(self.stage, self.actor, &strict.limit()) else { return true };
        let inode = wide.place.inode.map(|id| self.stage.source(wide.place.source).tree.inode(id));
        let step = inode.is_some_and(|inode| inode.marks.has(Marks::GROUP_STEP));
        let text = strict.consequence(step);
        let found = self.single(Kind::TooWide, Severity::Medium, text);
        singles.push(Single { path: strict.path, fact: wide.fact, from: wide.from, ..found });
        true
    }

    /// A key or a password; `looked_at` where it is known which program refuses what.
    fn secret(&self, looked_at: bool, singles: &mut Vec<Single>) {
        if self.swept.kind != FileKind::File || !is_secret(self.swept.path) {
            return;
        }
        let step = self.inode.marks.has(Marks::GROUP_STEP);
        if step && !looked_at && self.inode.stored_mode().has_any(Mode::new(0o077)) {
            let text = format!(
                "a program that checks its key refuses it: the filesystem-group step gave group {} access",
                self.inode.stored_owner().gid
            );
            singles.push(self.single(Kind::TooWide, Severity::Medium, text));
        }
        if self.mount.is_written_by_kubelet() || self.owns() || !self.allowed(Column::Read) {
            return;
        }
        let open = self.inode.stored_mode().other().grants(Access::READ);
        let root = self.mount.origin == MountOrigin::Root;
        if root && !open {
            return;
        }
        let severity = match (open, self.is_privileged()) {
            (true, _) => Severity::High,
            (false, true) => Severity::Low,
            (false, false) => Severity::Medium,
        };
        let text = format!("{} can leak another user's secret", self.actor.name);
        singles.push(self.single(Kind::SecretReadable, severity, text));
    }

    fn host(&self, singles: &mut Vec<Single>) {
        let Some(host) = self.mount.facts.host_path.as_deref() else { return };
        if !self.writes() || self.inode.kind.is_device() {
            return;
        }
        let itself = HOST_ITSELF.iter().any(|path| path.as_bytes() == host);
        let grave = itself || host.ends_with(b".sock") || host.starts_with(b"/etc/");
        let name = &self.actor.name;
        let (severity, text) = if grave {
            (Severity::High, format!("{name} takes over the host by what it writes to {}", path_text(host)))
        } else {
            (Severity::Medium, format!("{name} writes files that processes of the host read and trust"))
        };
        singles.push(self.single(Kind::HostWritable, severity, text));
    }

    fn program(&self, singles: &mut Vec<Single>) {
        let content = self.tree.content(self.id);
        let runs = matches!(content, Content::Program | Content::Script(_))
            || self.inode.stored_mode().has_any(Mode::ANY_EXECUTE);
        // Root rewrites what it likes; what matters is who else can.
        if self.swept.kind != FileKind::File || !runs || !self.writes() || self.is_privileged() {
            return;
        }
        let name = &self.actor.name;
        let (severity, text) = match self.mount.origin {
            MountOrigin::Root => (
                Severity::Low,
                format!("a flaw in {name} stays: it rewrites programs it runs until it is made anew"),
            ),
            MountOrigin::Declared | MountOrigin::Default | MountOrigin::Shield => {
                (Severity::Medium, format!("whoever runs it next runs what {name} wrote"))
            }
        };
        singles.push(self.single(Kind::ProgramWritable, severity, text));
    }

    fn missing_execute(&self, singles: &mut Vec<Single>) {
        let odd = [
            Concern::SetUserIdWithoutExecute,
            Concern::SetGroupIdWithoutExecute,
            Concern::SetGroupIdUnentered,
            Concern::StickyUnentered,
            Concern::ListedNotEntered,
        ];
        let found: Vec<Concern> = concerns(self.inode.stored_mode(), self.swept.kind);
        if let Some(concern) = found.into_iter().find(|concern| odd.contains(concern)) {
            singles.push(self.single(Kind::MissingExecute, Severity::Low, concern.text().to_owned()));
        }
    }
}
