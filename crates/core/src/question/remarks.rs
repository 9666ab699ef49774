//! What is probably not meant, though everything can be read: told before any question is answered.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::fact::Provenance;
use mivask_model::held::Held;
use mivask_model::ids::{InsideGid, InsideUid};
use mivask_model::listed::listed;
use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::{Mount, MountFlags, MountOrigin};
use mivask_model::mount_kind::MountKind;
use mivask_stage::identity::IdentityField;
use mivask_stage::identity::{DeclaredCapabilities, Knowledge};
use mivask_stage::runtime::Flavour;
use mivask_stage::scene::{Container, Scene, Volume, VolumeKind, Who, Workload};
use mivask_stage::stage::{Actor, Stage};

use super::cluster_gap::cluster_gap;
use super::facts::facts_at;
use super::labels;
use super::nobody::nobodys;
use super::remark::Remark;
use super::rootless::surprise;

/// Every remark on the actors of `stage` that are `wanted`, in their order, each once; it was made of `workloads` and
/// what `scene` tells beside them.
#[must_use]
pub fn remarks(
    scene: &Scene,
    workloads: &[Arc<Workload>],
    stage: &Stage,
    wanted: &dyn Fn(&Actor) -> bool,
) -> Vec<Remark> {
    let mut all: Vec<Remark> = Vec::new();
    let containers = workloads
        .iter()
        .flat_map(|workload| workload.containers.iter().map(move |container| (workload, container)));
    let staged = containers.zip(stage.actors.iter());
    for ((workload, container), actor) in staged.filter(|(_, actor)| wanted(actor)) {
        let mut looking = Looking { scene, stage, workload, container, actor, found: Vec::new() };
        looking.all();
        let new = looking.found.into_iter().filter(|remark| !all.contains(remark)).collect::<Vec<_>>();
        all.extend(new);
    }
    // Said once, of the first that has one.
    let gap =
        stage.actors.iter().any(wanted).then(|| workloads.iter().find_map(|one| cluster_gap(scene, one)));
    all.extend(gap.flatten());
    all.extend(labels::unknown(scene));
    all
}

struct Looking<'a> {
    scene: &'a Scene,
    stage: &'a Stage,
    workload: &'a Workload,
    container: &'a Container,
    actor: &'a Actor,
    found: Vec<Remark>,
}

impl Looking<'_> {
    fn all(&mut self) {
        if let Some(refusal) = self.actor.refusal() {
            let who = if refusal.whole_pod { self.workload.name.clone() } else { self.name() };
            self.add(format!("{who} never runs: {}", refusal.reason), None, refusal.from.clone());
            return;
        }
        self.image_group();
        self.no_account();
        self.useless_capabilities();
        self.group_on_host_paths();
        self.files_without_use();
        self.somebody_else_on_the_host();
        self.found.extend(labels::asked(self.scene, self.container));
        self.found.extend(labels::homes(self.workload, self.container));
        self.found.extend(labels::contested(self.stage, self.actor, self.container));
        for (_, mount) in self.actor.mounts.iter() {
            if mount.origin == MountOrigin::Declared {
                self.made_by_root(mount);
                self.open_to_all(mount);
            }
        }
    }

    fn name(&self) -> String {
        self.actor.name.to_string()
    }

    fn add(&mut self, message: String, help: Option<&str>, from: Provenance) {
        self.found.push(Remark { message, help: help.map(str::to_owned), from, note: false });
    }

    /// The user, where it is settled and not root.
    fn ordinary_user(&self) -> Option<Held<InsideUid>> {
        let [(_, who)] = self.actor.identity.possible.as_slice() else { return None };
        Some(who.uid).filter(|uid| !uid.is(InsideUid::new(0)))
    }

    /// A user namespace in which a container is not who starts its engine, or files are nobody's.
    fn somebody_else_on_the_host(&mut self) {
        if let Some(found) = surprise(self.stage, self.actor) {
            self.add(found.message, Some(&found.help), found.from);
        }
        if let Some(found) = nobodys(self.stage, self.actor) {
            self.add(found.message, Some(&found.help), found.from);
        }
    }

    /// The kubelet passes on only the user part of an image's USER.
    fn image_group(&mut self) {
        let Who::Kubernetes(security) = &self.container.who else { return };
        let asked = security.run_as_user.is_some() || self.workload.security.run_as_user.is_some();
        let image = self.container.image.as_ref().and_then(|image| self.scene.images.get(&image.value));
        let Some(Knowledge::Known(Some(user))) = image.map(|image| &image.identity.user) else { return };
        let from = user.from.clone();
        let user = user.value.clone();
        let group = user.split_once(':').map(|(_, group)| group).filter(|group| !group.is_empty());
        if let (Some(group), false) = (group, asked || security.run_as_group.is_some()) {
            let message =
                format!("the group `{group}` of the image's USER {user} is not passed on to {}", self.name());
            self.add(message, Some("set runAsGroup"), from);
        }
    }

    /// A number that the image's accounts do not know, so that its group is root's.
    fn no_account(&mut self) {
        let facts = self.actor.facts();
        let named = facts.iter().find(|fact| fact.field == IdentityField::Name);
        let nameless = self.actor.identity.name.is_none()
            && named.is_some_and(|fact| !matches!(fact.from, Provenance::Unknown(_)));
        let of_root = self.actor.identity.possible.iter().all(|(_, one)| one.gid.is(InsideGid::new(0)));
        let group = facts.iter().find(|fact| fact.field == IdentityField::Gid && of_root);
        let by_rule = group.is_some_and(|fact| matches!(fact.from, Provenance::Rule(_)));
        let uid = facts.iter().find(|fact| fact.field == IdentityField::Uid).map(|fact| fact.from.clone());
        if let (true, true, Some(number), Some(from)) = (nameless, by_rule, self.ordinary_user(), uid) {
            let message =
                format!("{} ({number}) has no account in its image, so its group is 0, root's", self.name());
            self.add(message, Some("name a group beside the user, or give the image an account"), from);
        }
    }

    /// Capabilities added for a user that gets none of them.
    fn useless_capabilities(&mut self) {
        let declared: &DeclaredCapabilities = match &self.container.who {
            Who::Kubernetes(security) => &security.capabilities,
            Who::Plain(plain) if plain.effective.is_none() => &plain.capabilities,
            Who::Plain(_) | Who::Process(_) | Who::Running(_) => return,
        };
        let none = self
            .actor
            .identity
            .possible
            .iter()
            .all(|(_, who)| !who.uid.is(InsideUid::new(0)) && who.effective.is_empty());
        let Some(first) = declared.add.first() else { return };
        if !none {
            return;
        }
        let names: Vec<&str> = declared.add.iter().map(|name| name.value.as_str()).collect();
        let message = format!(
            "{} adds {}, but does not run as root: it starts without capabilities whatever is added",
            self.name(),
            listed(&names)
        );
        self.add(message, Some("give the program a file capability, or run it as root"), first.from.clone());
    }

    /// Files that the scene gives for a volume which cannot have them.
    fn files_without_use(&mut self) {
        let names: BTreeSet<&String> =
            self.container.mounts.iter().map(|mount| &mount.volume.value).collect();
        let mounted: Vec<&Volume> =
            self.workload.volumes.iter().filter(|volume| names.contains(&volume.name.value)).collect();
        for volume in mounted {
            let why = match &volume.kind {
                VolumeKind::Api(_) => "the kubelet writes what is in it",
                VolumeKind::Image(_) => "it holds what its image does",
                VolumeKind::HostPath { .. } | VolumeKind::Bind { .. } => "it holds what the host has there",
                VolumeKind::Tmpfs(_) | VolumeKind::System(_) | VolumeKind::Anonymous => "it is made anew",
                VolumeKind::EmptyDir(_)
                | VolumeKind::Claim { .. }
                | VolumeKind::Ephemeral { .. }
                | VolumeKind::Backed { .. }
                | VolumeKind::Stored(_)
                | VolumeKind::Named { .. }
                | VolumeKind::Other { .. } => continue,
            };
            let name = &volume.name.value;
            let given = self.scene.volumes.get(name).filter(|facts| facts.tree.is_some());
            if let Some(from) = given.map(|facts| facts.from.clone()) {
                self.add(
                    format!("the files that are given for volume `{name}` are not used: {why}"),
                    None,
                    from,
                );
            }
        }
    }

    /// A filesystem group that stops at the host.
    fn group_on_host_paths(&mut self) {
        let Some(group) = self.workload.security.fs_group.as_ref() else { return };
        let group = group.value;
        if self.workload.flavour != Flavour::Pod {
            return;
        }
        for mount in self.container.mounts.iter().filter(|mount| !mount.read_only) {
            let volume = self.workload.volumes.iter().find(|volume| volume.name.value == mount.volume.value);
            if let Some(VolumeKind::HostPath { path, .. }) = volume.map(|volume| &volume.kind) {
                let message = format!("fsGroup {group} is not applied to host path {}", quoted(path));
                let help = "change its group on the host, or add that group to supplementalGroups";
                self.add(message, Some(help), mount.volume.from.clone());
            }
        }
    }

    /// A missing source that becomes root's, under a process that is not.
    fn made_by_root(&mut self, mount: &Mount) {
        let made = mount.variants.iter().any(|variant| variant.preparation.made);
        let writable = !mount.flags.has(MountFlags::READ_ONLY);
        if let (true, true, Some(uid)) = (made, writable, self.ordinary_user()) {
            let what = mount.facts.label.as_deref().unwrap_or("the source");
            let name = self.name();
            let who = uid.id().map_or_else(|| name.clone(), |uid| format!("{name} ({uid})"));
            let message = format!("{what} is missing, so it is made as root's: {who} cannot write to it");
            self.add(message, Some("make it beforehand, with the owner it needs"), mount.facts.from.clone());
        }
    }

    /// A directory of someone's disk where everyone can delete everyone's files.
    fn open_to_all(&mut self, mount: &Mount) {
        let given = matches!(
            mount.facts.kind,
            MountKind::Claim | MountKind::HostPath | MountKind::Bind | MountKind::Volume
        );
        let facts = facts_at(self.stage, self.actor, &mount.facts.at);
        let Some(mode) = facts.filter(|facts| facts.kind == FileKind::Directory).and_then(|facts| facts.mode)
        else {
            return;
        };
        let open = mode.has(Mode::new(0o002)) && !mode.has(Mode::new(0o1000));
        if given && open && !mount.flags.has(MountFlags::READ_ONLY) {
            let message = format!(
                "{} is world-writable ({mode}) without the sticky bit: anyone can delete anyone's files",
                quoted(&mount.facts.at)
            );
            self.add(message, Some("take `w` from other, or set the sticky bit"), mount.facts.from.clone());
        }
    }
}
