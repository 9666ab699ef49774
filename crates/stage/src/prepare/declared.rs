//! Mounts that a description asks for.

use std::collections::BTreeMap;
use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::fact::Provenance;
use mivask_model::ids::MountIds;
use mivask_model::labels::Relabelled;
use mivask_model::mount::{MountId, MountOrigin, Preparation};
use mivask_model::mount_kind::MountKind;
use mivask_model::path::{or_root, trimmed};
use mivask_model::refusal::RefusalClass;
use mivask_model::unmodelled::Unmodelled;

use super::container_mounts::{Attachment, ContainerMounts};
use super::nested;
use super::prepared::{Prepared, Ready};
use super::selinux;
use crate::runtime::Flavour;
use crate::scene::{Relabel, SelinuxMode, VolumeKind, VolumeMount};

/// File systems without id maps (`FS_ALLOW_IDMAP`): those of one line here were tried on Linux 6.18, EINVAL; those of the other, from
/// their source.
const NOT_MAPPED: [&str; 14] = [
    "overlay", "ext2", "ext3", "ramfs", "proc", "sysfs", "devtmpfs", "debugfs", //
    "nfs", "nfs4", "cifs", "smb3", "9p", "afs",
];

/// What the library by which engines label things refuses, with all it is given to mount (`Relabel` of
/// opencontainers/selinux); it also refuses the home folder of who starts the engine.
const NOT_LABELLED: [&str; 23] = [
    "/",
    "/bin",
    "/boot",
    "/dev",
    "/etc",
    "/etc/passwd",
    "/etc/pki",
    "/etc/shadow",
    "/home",
    "/lib",
    "/lib64",
    "/media", //
    "/opt",
    "/proc",
    "/root",
    "/run",
    "/sbin",
    "/srv",
    "/sys",
    "/tmp",
    "/usr",
    "/var",
    "/var/lib",
];

impl ContainerMounts<'_> {
    pub(super) fn declared(&mut self, mount: &VolumeMount, volumes: &BTreeMap<String, Ready>) {
        // Readers refuse mounts of undeclared volumes, so a missing one is only passed over here.
        let Some(ready) = volumes.get(&mount.volume.value) else { return };
        if let Some((class, reason, from)) = self.refuses_options(mount) {
            return self.stop(class, reason, from);
        }
        // An idmapped mount takes its map from a user namespace, and the initial one cannot be used
        // (mount_setattr(2)).
        let bundle = self.context.workload.flavour == Flavour::Bundle;
        let id_mapped = mount.engine.id_mapped && (self.profile().binds.maps_ids || !bundle);
        if mount.engine.lent.is_some() && matches!(ready, Ready::Tmpfs(_)) {
            return self.lent_tmpfs(mount);
        }
        let no_copy = self.is_left_as_it_is(mount);
        let Some(mut volume) = self.ready(ready, (&mount.volume.value, &mount.at), no_copy) else { return };
        if mount.engine.take_over {
            self.take_over(&mut volume, &mount.at);
        }
        self.starter_reaches(&volume, &mount.at.from);
        if mount.engine.overlaid {
            self.lower_of_nobody(&volume, &mount.at);
        }
        if let Some(refusal) = volume.blocked.as_ref().filter(|refusal| !refusal.whole_pod) {
            self.blocked.get_or_insert_with(|| refusal.clone());
        }
        let whole = volume.root;
        let Some(root) = self.shown(&mut volume, mount) else { return };
        volume.flags = self.volume_flags(&volume);
        let Some(bound) = self.bound(mount, &volume) else { return };
        // A part is mounted without what is below it (docs/facts/kubelet.md section 8).
        let of_it = mount.sub_path.is_some() && root != whole;
        if bound.leaves || of_it {
            nested::leave_behind(self.stage, &mut volume);
        }
        if of_it {
            // What the whole volume's root was before is not what this one was.
            for variant in &mut volume.variants {
                Arc::make_mut(&mut variant.preparation).before = None;
            }
        }
        let flags = bound.flags;
        let at = self.profile().mount_points.place(&mount.at.value);
        let at = at.as_slice();
        let from = &mount.at.from;
        let origin = MountOrigin::Declared;
        let of_pod = self.context.workload.own_users.is_some();
        // What is made inside the namespace is the namespace's root's.
        let made_inside = matches!(ready, Ready::Tmpfs(_)) || is_made_inside(&volume.kind);
        let own = of_pod || made_inside;
        if let Some(filesystem) = self.not_mapped(&volume).filter(|_| (of_pod || id_mapped) && !made_inside) {
            let shown = quoted(&mount.at.value);
            let what = if of_pod { "a pod with users of its own" } else { "a container with `idmap` on it" };
            let reason = format!(
                "{shown} is on {filesystem}, which no mount maps ids of: {what} does not start (EINVAL)"
            );
            return self.stop(RefusalClass::StartError, reason, mount.at.from.clone());
        }
        let ids = if own { self.own_ids.clone() } else { self.ids_of(mount) };
        // `attach` adds nothing where the mount point cannot be made; then nothing can be mounted below either.
        let before = self.mounts.iter().count();
        self.attach(&Attachment { at, volume: &volume, root, flags, origin, from, ids: &ids });
        let made = self.mounts.iter().nth(before).map(|(id, _)| id);
        if let Some(outer) = made {
            self.nested(outer, &volume, mount, &ids);
            self.relabelled(mount, before);
        }
    }

    /// Notes what is made of the labels of the mounts from number `first` on, which are `mount` and those below it.
    fn relabelled(&mut self, mount: &VolumeMount, first: usize) {
        if self.context.scene.host.selinux.is_none() {
            if let Some(asked) = &mount.engine.relabel {
                let option = if asked.value == Relabel::Shared { "z" } else { "Z" };
                let assumed =
                    format!("SELinux, where the host enforces it, permits what the option `{option}` labels");
                self.unmodelled.push(Unmodelled::trusted(&assumed, asked.from.clone()));
            }
            return;
        }
        let sharing = self.context.sharing;
        let relabelled = if mount.engine.overlaid {
            Some(Relabelled::Overlaid)
        } else {
            sharing.relabelled(self.context.workload, self.container, mount)
        };
        let mut volumes = self.context.workload.volumes.iter();
        let volume = volumes.find(|volume| volume.name.value == mount.volume.value);
        let shared = volume.is_some_and(|volume| selinux::shared_when_made(self.context, volume));
        let relabelled = relabelled.or_else(|| shared.then_some(Relabelled::Shared));
        if relabelled.is_some() {
            self.mounts.change(|id, made| {
                if id.number() >= first {
                    Arc::make_mut(&mut made.facts).relabelled = relabelled;
                }
            });
        }
    }

    /// Why an engine does not label the source of `mount` anew: it is a folder of the system's own.
    fn refuses_labels(&self, mount: &VolumeMount) -> Option<String> {
        mount.engine.relabel.as_ref()?;
        self.context.scene.host.selinux.as_ref().filter(|host| host.mode != SelinuxMode::Disabled)?;
        let mut volumes = self.context.workload.volumes.iter();
        let volume = volumes.find(|volume| volume.name.value == mount.volume.value)?;
        let (VolumeKind::Bind { path, .. } | VolumeKind::HostPath { path, .. }) = &volume.kind else {
            return None;
        };
        let path = quoted(or_root(trimmed(path)));
        NOT_LABELLED
            .contains(&path.as_str())
            .then(|| format!("engines refuse to label {path} anew (SELinux)"))
    }

    /// The id map of a mount: one of its own, or that of the container, where the engine makes it so.
    fn ids_of(&mut self, mount: &VolumeMount) -> MountIds {
        let given = mount.ids != MountIds::default();
        let bundle = self.context.workload.flavour == Flavour::Bundle;
        if bundle && !self.profile().binds.maps_ids && (given || mount.engine.id_mapped) {
            let shown = quoted(&mount.at.value);
            self.assumptions.push(format!("runc is older than 1.2, which maps the ids of {shown}").into());
            return MountIds::default();
        }
        if mount.engine.id_mapped && !given { self.own_ids.clone() } else { mount.ids.clone() }
    }

    /// The file system of a volume, where it is one that takes no id map (mount_setattr(2), `FS_ALLOW_IDMAP`).
    fn not_mapped(&self, volume: &Prepared) -> Option<Arc<str>> {
        let mut all = volume.variants.iter().map(|variant| self.stage.source(variant.source));
        let filesystem = all.find_map(|source| source.facts.filesystem.clone())?;
        NOT_MAPPED.contains(&&*filesystem).then_some(filesystem)
    }

    /// Why the engine refuses what a mount asks for.
    fn refuses_options(&self, mount: &VolumeMount) -> Option<(RefusalClass, String, Provenance)> {
        let asked = &mount.engine;
        if let Some(word) = asked.first.as_ref()
            && !self.profile().volumes.takes_options
        {
            let reason = format!("`{}` is not an option of a volume for this engine", word.value);
            return Some((RefusalClass::StartRefused, reason, word.from.clone()));
        }
        let from = || mount.at.from.clone();
        if let Some(reason) = self.refuses_labels(mount) {
            return Some((RefusalClass::StartRefused, reason, from()));
        }
        let bundle = self.context.workload.flavour == Flavour::Bundle;
        if let Some(lines) = asked.bad_map.as_ref().filter(|_| self.profile().binds.maps_ids) {
            let reason = format!("`{}` is no id map that crun makes a mount with", lines.escape_debug());
            return Some((RefusalClass::StartError, reason, mount.at.from.clone()));
        }
        let given = mount.ids != MountIds::default();
        let id_mapped = asked.id_mapped && !given && (self.profile().binds.maps_ids || !bundle);
        if id_mapped && self.own_ids.uids.is_identity() {
            let reason = "`idmap` needs a user namespace of the container's own".to_owned();
            return Some((RefusalClass::StartRefused, reason, from()));
        }
        let (starter, _) = self.context.starter_of();
        let starter = starter?;
        if id_mapped {
            let reason = "`idmap` is refused to an engine without root (mount_setattr: EPERM)".to_owned();
            return Some((RefusalClass::StartError, reason, from()));
        }
        // The overlay lies in the store, whose folders are the starter's alone.
        if asked.overlaid && self.own_ids.uids.backward(starter.uid).is_none() {
            let who = starter.word();
            let reason = format!(
                "`O` lays an overlay in {who}'s store, which a namespace without {who} may not enter (EACCES)"
            );
            return Some((RefusalClass::StartError, reason, from()));
        }
        None
    }

    /// What is mounted below a host path comes along, with flags of its own: those of the outer mount are its alone.
    fn nested(&mut self, outer: MountId, volume: &Prepared, mount: &VolumeMount, ids: &MountIds) {
        for nested in &volume.nested {
            let path = [&mount.at.value, b"/".as_slice(), &nested.rest].concat();
            let inner = Prepared {
                root: Some(nested.shows),
                label: Some(nested.label.clone()),
                host_path: Some(nested.at.clone()),
                ..Prepared::single(nested.source, volume.kind.clone(), Preparation::default())
            };
            let root = inner.root;
            let flags = mount.below.applied(nested.flags);
            let origin = MountOrigin::Declared;
            let new = Attachment { at: &path, volume: &inner, root, flags, origin, from: &nested.from, ids };
            self.push(Some((outer, nested.inode)), &new);
        }
    }
}

/// Whether it is a file system that a runtime makes in the container's namespace; the kernel's own files belong to its own root.
fn is_made_inside(kind: &MountKind) -> bool {
    let of_runtime = if let MountKind::Runtime(name) = kind { &**name } else { "" };
    *kind == MountKind::Tmpfs || matches!(of_runtime, "mqueue" | "devpts")
}
