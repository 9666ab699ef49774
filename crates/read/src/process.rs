//! A running process as a scene of one actor.

use std::path::Path;
use std::sync::Arc;

use mivask_core::act::quoted;
use mivask_core::caps::CapabilitySet;
use mivask_core::credentials::Identity;
use mivask_core::fact::{Fact, Provenance};
use mivask_core::held::Held;
use mivask_core::identity::IdentityField;
use mivask_core::identity::{IdentityFact, PodSecurity, Resolved};
use mivask_core::ids::{Extent, IdMap, InsideGid, InsideUid, KernelGid, KernelUid, MountIds, UserNamespace};
use mivask_core::mode::Mode;
use mivask_core::mount::MountFlags;
use mivask_core::personality::Personality;
use mivask_core::runtime::Flavour;
use mivask_core::scene::{
    Below, Container, EngineOptions, LabelAsked, ProfileAsked, Scene, Volume, VolumeFacts, VolumeKind,
    VolumeMount, Who, Workload,
};
use mivask_core::storage::Settings;
use mivask_disk::process::{Process, ProcessMount};

use crate::disk::{mount_flags, with_options};
use crate::labels;

/// How such an input is named: `process:PID`.
const PREFIX: &str = "process:";

/// The number of the process that an argument names.
#[must_use]
pub fn named(argument: &Path) -> Option<u32> {
    match argument.to_str()?.strip_prefix(PREFIX)? {
        // Who asks, as an act sees it: the same ids and mounts.
        "self" => Some(std::process::id()),
        number => number.parse().ok(),
    }
}

/// The scene of one running process; its actor is called `process`.
#[must_use]
pub fn scene(process: Process, settings: Settings) -> Scene {
    scene_called("process", process, settings)
}

/// The same with another name for its actor.
#[must_use]
pub fn scene_called(name: &str, process: Process, settings: Settings) -> Scene {
    let file: Arc<str> = Arc::from(format!("/proc/{}/status", process.pid));
    let from = Provenance::Source(file.clone());
    let who = Who::Running(Box::new(resolved(&process, &from)));
    let mut scene = Scene::default();
    scene.host.settings = settings;
    let mut volumes = Vec::new();
    let mut mounts = Vec::new();
    let table: Arc<str> = Arc::from(format!("/proc/{}/mountinfo", process.pid));
    for mount in process.mounts {
        let from = Provenance::Line { file: table.clone(), line: mount.line.line };
        let at = mount.line.at.clone();
        let shown = quoted(&at);
        let sub_path = mount.file.clone().map(|name| Fact::new(name, from.clone()));
        let facts = facts(mount, &from);
        mounts.push(VolumeMount {
            volume: Fact::new(shown.clone(), from.clone()),
            at: Fact::new(at, from.clone()),
            read_only: false,
            no_copy: true,
            flags: facts.flags,
            ids: MountIds::default(),
            sub_path,
            engine: EngineOptions::default(),
            below: Below::default(),
            unknown_part: None,
        });
        volumes.push(Volume {
            name: Fact::new(shown.clone(), from.clone()),
            kind: VolumeKind::Stored(shown.clone()),
        });
        scene.volumes.insert(shown, VolumeFacts { flags: MountFlags::NONE, ..facts });
    }
    let (label, apparmor) = confinement(process.security.as_deref(), process.pid);
    let container = Container {
        who,
        label,
        apparmor,
        // A container's list of devices is kept where no one can read it back; a process of the host has none.
        privileged: process.same_mounts,
        unmasked: true,
        mounts,
        ..Container::plain(name, "0:0", from.clone())
    };
    let workload = Workload {
        name: process.name,
        kind: "process".to_owned(),
        flavour: Flavour::Scene,
        namespace: String::new(),
        own_users: None,
        security: PodSecurity::default(),
        volumes,
        containers: vec![container],
        service_account_token: None,
        from,
    };
    scene.workloads.push(Arc::new(workload));
    scene
}

/// What `attr/current` says: an SELinux label has four parts, AppArmor's text a mode behind a name.
fn confinement(text: Option<&str>, pid: u32) -> (LabelAsked, ProfileAsked) {
    let from = Provenance::Source(Arc::from(format!("/proc/{pid}/attr/current")));
    let (mut label, mut profile) = (LabelAsked::default(), ProfileAsked::Unconfined);
    match text.map(|text| (text, text.rsplit_once(" ("))) {
        Some((_, Some((name, "enforce)")))) => {
            profile = ProfileAsked::named(Fact::new(name.to_owned(), from));
        }
        // A profile that only complains lets everything happen.
        Some((_, Some(_))) | None => {}
        Some((text, None)) if text.split(':').count() >= 3 => {
            let words = format!("SELinux with the label {}", text.escape_debug());
            label.words = Some(Fact::new(words, from.clone()));
            label.whole = Some(Fact::new(text.to_owned(), from));
        }
        Some((_, None)) => {}
    }
    (label, profile)
}

fn facts(mount: ProcessMount, from: &Provenance) -> VolumeFacts {
    let line = mount.line;
    let known = Personality::of(&line.filesystem).or_else(|| plain(&line.filesystem));
    // What nodes of `/proc` and `/sys` let anyone do depends on more than their modes.
    let tree = if known.is_some() { mount.tree } else { None };
    let flags = mount_flags(&line);
    let personality = with_options(known.unwrap_or_default(), &line);
    let labels = labels::of_options(&line.super_options);
    VolumeFacts {
        tree,
        filesystem: Some(Fact::new(line.filesystem, from.clone())),
        personality,
        flags,
        read_only_filesystem: line.super_options.iter().any(|option| option == "ro"),
        group_ownership: None,
        labels,
        from: from.clone(),
    }
}

/// File systems of the kernel's own that go by owners and modes alone.
fn plain(filesystem: &str) -> Option<Personality> {
    ["devtmpfs", "ramfs", "devpts", "mqueue", "hugetlbfs"].contains(&filesystem).then(Personality::default)
}

/// The identity as the kernel tells it.
fn resolved(process: &Process, from: &Provenance) -> Resolved {
    let namespace = UserNamespace { uids: id_map(&process.uid_map), gids: id_map(&process.gid_map) };
    let uid = namespace.to_inside_uid(KernelUid::new(process.uid)).unwrap_or(InsideUid::new(process.uid));
    let inside = |gid: u32| namespace.to_inside_gid(KernelGid::new(gid));
    let gid = inside(process.gid).unwrap_or(InsideGid::new(process.gid));
    let groups: Vec<InsideGid> = process.groups.iter().filter_map(|gid| inside(*gid)).collect();
    // Groups that were kept from outside count, though nothing inside has their number.
    let unmapped = process.groups.iter().filter(|gid| inside(**gid).is_none());
    let unmapped: Arc<[KernelGid]> = unmapped.map(|gid| KernelGid::new(*gid)).collect();
    let [effective, permitted, bounding, inheritable, ambient] =
        process.capabilities.map(CapabilitySet::from_bits);
    let umask = Mode::new(process.umask.unwrap_or(0o022));
    let mut facts = Vec::new();
    let mut fact = |field, value: String| facts.push(IdentityFact { field, value, from: from.clone() });
    fact(IdentityField::Uid, uid.to_string());
    fact(IdentityField::Gid, gid.to_string());
    groups.iter().for_each(|group| fact(IdentityField::Group, group.to_string()));
    for group in &*unmapped {
        fact(IdentityField::Group, format!("65534, which is {group} on the host and counts as that"));
    }
    if process.umask.is_some() {
        fact(IdentityField::Umask, umask.to_string());
    }
    fact(IdentityField::NoNewPrivileges, process.no_new_privileges.to_string());
    let words = |set: CapabilitySet| match set {
        CapabilitySet::ALL => "every capability".to_owned(),
        set => mivask_core::identity::set_in_words(set),
    };
    fact(IdentityField::Bounding, words(bounding));
    fact(IdentityField::Effective, words(effective));
    fact(IdentityField::UserNamespace, namespace.to_string());
    let mut assumptions: Vec<Arc<str>> = Vec::new();
    if process.umask.is_none() {
        assumptions.push("its umask is 0022: this kernel does not report it".into());
    }
    if !process.same_mounts {
        assumptions.push("it may open the devices of a container's usual list, and no others".into());
    }
    let identity = Identity {
        real: None,
        uid: Held::Id(uid),
        gid: Held::Id(gid),
        unmapped_groups: unmapped,
        groups: groups.into_iter().map(Held::Id).collect(),
        effective,
        permitted,
        bounding,
        inheritable,
        ambient,
        umask,
        no_new_privileges: process.no_new_privileges,
        namespace: Arc::new(namespace),
    };
    let possible = vec![(Arc::from(""), identity)];
    Resolved { possible, question: None, name: None, facts, refusal: None, assumptions }
}

/// A map of every id to itself counts as no map.
fn id_map(lines: &[(u32, u32, u32)]) -> IdMap {
    match lines {
        [(0, 0, u32::MAX)] | [] => IdMap::identity(),
        lines => {
            let extent = |(inside, outside, count): &(u32, u32, u32)| Extent {
                inside: *inside,
                outside: *outside,
                count: *count,
            };
            IdMap::new(lines.iter().map(extent).collect())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn attr_current_is_a_label_or_a_profile() {
        let of = |text| {
            let (label, profile) = confinement(text, 7);
            (label.whole.map(|label| label.value), profile)
        };
        assert_eq!(of(None), (None, ProfileAsked::Unconfined));
        assert_eq!(of(Some("unconfined")), (None, ProfileAsked::Unconfined));
        assert_eq!(of(Some("docker-default (enforce)")), (None, ProfileAsked::Default));
        assert_eq!(of(Some("web (complain)")), (None, ProfileAsked::Unconfined));
        assert!(matches!(of(Some("my web (enforce)")).1, ProfileAsked::Own(name) if name.value == "my web"));
        let label = "system_u:system_r:container_t:s0:c1,c2";
        assert_eq!(of(Some(label)), (Some(label.to_owned()), ProfileAsked::Unconfined));
    }
}
