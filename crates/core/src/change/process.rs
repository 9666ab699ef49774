//! Changes of a description: who a process is, and how its mounts are made.

use std::sync::Arc;

use mivask_model::fact::{Fact, Provenance};
use mivask_model::held::Held;
use mivask_model::ids::{InsideGid, InsideUid};
use mivask_model::listed::listed;
use mivask_model::path::trimmed;
use mivask_stage::identity::GroupName;
use mivask_stage::namespace;
use mivask_stage::runtime::Flavour;
use mivask_stage::scene::{Container, Medium, TmpfsAsked, Volume, VolumeKind, VolumeMount, Who, Workload};
use mivask_stage::stage::Role;

use super::capabilities::capabilities;
use super::remount::remount;
use super::{Change, Process, label, means, mode_option, owner_options, volume_mode};

/// Makes `change` in `workload` where it concerns it.
pub(super) fn change(
    workload: &mut Workload,
    change: &Change,
    notes: &mut Vec<String>,
) -> Result<(), String> {
    let from = Provenance::Act(change.to_string().into());
    let pod = matches!(workload.flavour, Flavour::Pod);
    match change {
        Change::FilesystemGroup(step) if pod => step.of_pod(&mut workload.security, from),
        Change::FilesystemGroup(step) => {
            workload.containers.iter_mut().try_for_each(|container| step.of_container(container, &from))?;
        }
        Change::Joins(gid) if pod => workload.security.supplemental_groups.push(Fact::new(*gid, from)),
        Change::Joins(gid) => {
            workload.containers.iter_mut().for_each(|container| joins(container, *gid, &from));
        }
        Change::Process(name, what) => {
            let named = |container: &Container| means(name, &workload.name, &container.name);
            let Some(at) = workload.containers.iter().position(named) else { return Ok(()) };
            if workload.containers[at].role == Role::Person || workload.containers[at].on_host {
                on_host(what, &workload.containers[at].name)?;
            }
            match what {
                Process::FilesystemGroup(step) if pod => {
                    notes.extend(whole_pod("fsGroup", workload));
                    step.of_pod(&mut workload.security, from);
                }
                Process::Joins(gid) if pod => {
                    notes.extend(whole_pod("supplementalGroups", workload));
                    workload.security.supplemental_groups.push(Fact::new(*gid, from));
                }
                Process::FilesystemGroup(step) => step.of_container(&mut workload.containers[at], &from)?,
                Process::Joins(gid) => joins(&mut workload.containers[at], *gid, &from),
                Process::Scratch(path) => scratch(workload, at, path, &from)?,
                Process::Only(part) => only(workload, at, part, &from)?,
                Process::Mounts(path, options) => {
                    // A mount that is read-only through its volume stays so, however it is remounted.
                    if options.iter().any(|option| option == "rw") {
                        writable(workload, at, path)?;
                    }
                    // Whose the files of a volume are is no matter of one mount.
                    let options = options.iter().filter(|option| !owner_options::is_one(option));
                    let (modes, flags): (Vec<_>, Vec<_>) =
                        options.partition(|option| mode_option(option).is_some());
                    for mode in modes.into_iter().filter_map(|option| mode_option(option)) {
                        volume_mode::set(workload, at, path, mode?, &from)?;
                    }
                    if !flags.is_empty() {
                        remount(&mut workload.containers[at], path, &flags)?;
                    }
                }
                // What starts again is looked at anew in any case.
                Process::StartsAgain | Process::IsMadeAgain => {}
                Process::Becomes(..)
                | Process::Umask(_)
                | Process::Drops(_)
                | Process::Adds(_)
                | Process::Level(_)
                | Process::UserNamespace(_) => single(&mut workload.containers[at], what, &from)?,
            }
        }
        Change::Files(_) | Change::Image(_) | Change::Accounts(..) | Change::Security(_) => {}
    }
    Ok(())
}

/// People on a host have accounts, and no description.
fn on_host(what: &Process, name: &str) -> Result<(), String> {
    let instead = match what {
        Process::Umask(_) | Process::StartsAgain => return Ok(()),
        Process::IsMadeAgain => format!("write `{name} starts again`"),
        Process::Becomes(..) => format!("write `{name} as USER` for somebody else"),
        Process::Joins(_) | Process::FilesystemGroup(_) => {
            format!("groups are those of its account: write `host joins {name} to GROUP`")
        }
        Process::Drops(_) | Process::Adds(_) => "it has the capabilities of its user".to_owned(),
        Process::UserNamespace(_) => "it is in the host's own user namespace".to_owned(),
        Process::Level(_) => "its label is that of its login".to_owned(),
        Process::Scratch(_) | Process::Only(_) | Process::Mounts(..) => {
            "it sees the host's mounts, which `host: { mounts: ... }` gives".to_owned()
        }
    };
    Err(format!("{name} is a person on the host: {instead}"))
}

/// A word on who else is meant, where there is anyone else.
fn whole_pod(field: &str, workload: &Workload) -> Option<String> {
    let names: Vec<&str> = workload.containers.iter().map(|container| container.name.as_str()).collect();
    (names.len() > 1).then(|| format!("{field} is a field of the pod: it changes {} alike", listed(&names)))
}

fn single(container: &mut Container, what: &Process, from: &Provenance) -> Result<(), String> {
    match what {
        Process::Becomes(uid, gid) => becomes(&mut container.who, *uid, *gid, from),
        Process::Umask(mask) => {
            let given = Some(Fact::new(*mask, from.clone()));
            match &mut container.who {
                Who::Kubernetes(security) => security.umask = given,
                Who::Plain(plain) => plain.umask = given,
                Who::Process(process) => process.umask = given,
                Who::Running(resolved) => {
                    resolved.possible.iter_mut().for_each(|(_, identity)| identity.umask = *mask);
                }
            }
        }
        Process::Drops(names) => capabilities(&mut container.who, names, false, from)?,
        Process::Adds(names) => capabilities(&mut container.who, names, true, from)?,
        Process::Level(level) => label::set_level(&mut container.label, level, from)?,
        Process::UserNamespace(mode) => match &mut container.who {
            Who::Plain(plain) => {
                plain.user_namespace = namespace::mode(mode).map(|asked| Fact::new(asked, from.clone()));
            }
            Who::Kubernetes(_) | Who::Process(_) | Who::Running(_) => {
                return Err(format!("`{mode}` is a user namespace of an engine's containers"));
            }
        },
        Process::Joins(_)
        | Process::FilesystemGroup(_)
        | Process::StartsAgain
        | Process::IsMadeAgain
        | Process::Scratch(_)
        | Process::Only(_)
        | Process::Mounts(..) => {}
    }
    Ok(())
}

/// Lets the volume behind a mount be written to, where its own `readOnly` says no.
fn writable(workload: &mut Workload, container: usize, path: &[u8]) -> Result<(), String> {
    let mounts = &workload.containers[container].mounts;
    let mount = mounts.iter().find(|mount| trimmed(&mount.at.value) == trimmed(path));
    let Some(name) = mount.map(|mount| mount.volume.value.clone()) else { return Ok(()) };
    let Some(volume) = workload.volumes.iter_mut().find(|volume| volume.name.value == name) else {
        return Ok(());
    };
    let always = match &mut volume.kind {
        VolumeKind::Claim { read_only, .. } | VolumeKind::Backed { read_only, .. } => {
            *read_only = false;
            None
        }
        VolumeKind::Api(api) => Some(api.kind.word().to_owned()),
        VolumeKind::Image(_) => Some("image".to_owned()),
        VolumeKind::Other { kind, read_only: true } => Some(kind.clone()),
        VolumeKind::Other { .. }
        | VolumeKind::EmptyDir(_)
        | VolumeKind::HostPath { .. }
        | VolumeKind::Ephemeral { .. }
        | VolumeKind::Stored(_)
        | VolumeKind::Named { .. }
        | VolumeKind::Anonymous
        | VolumeKind::Bind { .. }
        | VolumeKind::Tmpfs(_)
        | VolumeKind::System(_) => None,
    };
    always.map_or(Ok(()), |kind| {
        Err(format!("a volume of the kind {kind} is read-only whatever the mount says"))
    })
}

/// A volume of its own: an `emptyDir` in a pod, a tmpfs elsewhere.
fn scratch(workload: &mut Workload, container: usize, path: &[u8], from: &Provenance) -> Result<(), String> {
    let taken = |at: &[u8]| trimmed(at) == trimmed(path);
    // The root of a container is its image; a scratch volume there would hide the program.
    if trimmed(path).is_empty()
        || workload.containers[container].mounts.iter().any(|mount| taken(&mount.at.value))
    {
        return Err("something is mounted there already".to_owned());
    }
    let kind = match workload.flavour {
        Flavour::Pod => VolumeKind::EmptyDir(Medium::Disk),
        Flavour::Compose | Flavour::Scene | Flavour::Bundle => VolumeKind::Tmpfs(TmpfsAsked::default()),
    };
    let name = scratch_name(workload, path);
    workload.volumes.push(Volume { name: Fact::new(name.clone(), from.clone()), kind });
    workload.containers[container]
        .mounts
        .push(VolumeMount::new(Fact::new(name, from.clone()), Fact::new(path.to_vec(), from.clone())));
    Ok(())
}

/// Mounts a part of a volume where the part was seen, and no more the whole volume above it.
fn only(workload: &mut Workload, container: usize, part: &[u8], from: &Provenance) -> Result<(), String> {
    let mounts = &mut workload.containers[container].mounts;
    let Some(at) = mount_above(mounts, part) else {
        return Err("no volume is mounted above that path".to_owned());
    };
    let mount = &mut mounts[at];
    let rest = below(&mount.at.value, part).unwrap_or_default().to_vec();
    // A subPath with `..` is refused by the API, and climbs out of the volume elsewhere.
    if rest.split(|byte| *byte == b'/').any(|name| name == b"..") {
        return Err("a part is named without `..`".to_owned());
    }
    let joined = |above: &[u8]| [trimmed(above), b"/", &rest].concat();
    let volume = workload.volumes.iter().find(|volume| volume.name.value == mount.volume.value);
    match volume.map(|volume| &volume.kind) {
        Some(VolumeKind::Tmpfs(_) | VolumeKind::System(_)) => {
            return Err("a tmpfs has no parts to mount".to_owned());
        }
        // A bind is made of any directory: another source is all it takes. Others may have the old one.
        Some(VolumeKind::Bind { path, make_missing }) => {
            let kind = VolumeKind::Bind { path: joined(path), make_missing: *make_missing };
            let name = format!("{} ({})", mount.volume.value, mivask_model::act::quoted(&rest));
            mount.volume = Fact::new(name, from.clone());
            workload.volumes.push(Volume { name: mount.volume.clone(), kind });
        }
        Some(_) | None => {
            let whole = mount.sub_path.as_ref().map_or_else(|| rest.clone(), |given| joined(&given.value));
            mount.sub_path = Some(Fact::new(whole, from.clone()));
        }
    }
    mount.at = Fact::new(trimmed(part).to_vec(), from.clone());
    Ok(())
}

/// Which mount `path` is in, below its root.
pub(crate) fn mount_above(mounts: &[VolumeMount], path: &[u8]) -> Option<usize> {
    let deeper = |mount: &&(usize, &VolumeMount)| below(&mount.1.at.value, path).is_some();
    let all: Vec<(usize, &VolumeMount)> = mounts.iter().enumerate().collect();
    all.iter().filter(deeper).max_by_key(|(_, mount)| mount.at.value.len()).map(|(at, _)| *at)
}

/// What is left of `path` below `above`, without slashes at either end; `None` where nothing is.
#[must_use]
pub fn below<'a>(above: &[u8], path: &'a [u8]) -> Option<&'a [u8]> {
    let rest = trimmed(path).strip_prefix(trimmed(above))?.strip_prefix(b"/")?;
    let start = rest.iter().position(|byte| *byte != b'/')?;
    Some(&rest[start..])
}

/// `scratch-tmp` for `/tmp`, with a number where a volume has that name.
#[must_use]
pub fn scratch_name(workload: &Workload, path: &[u8]) -> String {
    let letters =
        |byte: &u8| if byte.is_ascii_alphanumeric() { char::from(byte.to_ascii_lowercase()) } else { '-' };
    let text: String = path.iter().map(letters).collect();
    let plain = format!("scratch-{}", text.trim_matches('-'));
    let taken = |name: &String| workload.volumes.iter().any(|volume| volume.name.value == *name);
    let numbered = (2..).map(|number| format!("{plain}-{number}"));
    std::iter::once(plain.clone()).chain(numbered).find(|name| !taken(name)).unwrap_or(plain)
}

/// `UID[:GID]` in place of what is given; its group stays where no other is named.
#[must_use]
pub fn user_text(given: Option<&str>, uid: u32, gid: Option<u32>) -> String {
    let kept = || given.and_then(|given| given.split_once(':')).map(|(_, group)| group.to_owned());
    let group = gid.map(|gid| gid.to_string()).or_else(kept);
    group.map_or_else(|| uid.to_string(), |group| format!("{uid}:{group}"))
}

fn becomes(who: &mut Who, uid: u32, gid: Option<u32>, from: &Provenance) {
    match who {
        Who::Kubernetes(security) => {
            security.run_as_user = Some(Fact::new(uid, from.clone()));
            if let Some(gid) = gid {
                security.run_as_group = Some(Fact::new(gid, from.clone()));
            }
        }
        Who::Plain(plain) => {
            let user = user_text(plain.user.as_ref().map(|user| user.value.as_str()), uid, gid);
            plain.user = Some(Fact::new(user, from.clone()));
        }
        Who::Process(process) => {
            process.uid = Fact::new(uid, from.clone());
            if let Some(gid) = gid {
                process.gid = Fact::new(gid, from.clone());
            }
        }
        Who::Running(resolved) => {
            for (_, identity) in &mut resolved.possible {
                identity.uid = Held::Id(InsideUid::new(uid));
                identity.gid = gid.map_or(identity.gid, |gid| Held::Id(InsideGid::new(gid)));
            }
        }
    }
}

fn joins(container: &mut Container, gid: u32, from: &Provenance) {
    match &mut container.who {
        Who::Plain(plain) => plain.groups.push(Fact::new(GroupName::Number(gid), from.clone())),
        Who::Process(process) => process.groups.push(Fact::new(gid, from.clone())),
        Who::Running(resolved) => {
            for (_, identity) in &mut resolved.possible {
                identity.groups.push(Held::Id(InsideGid::new(gid)));
                identity.groups.sort_unstable();
            }
        }
        Who::Kubernetes(_) => {}
    }
}

/// Every number that a description names.
pub(super) fn numbers(who: &Who) -> Vec<u32> {
    match who {
        Who::Kubernetes(security) => {
            security.run_as_user.iter().chain(&security.run_as_group).map(|fact| fact.value).collect()
        }
        Who::Plain(plain) => {
            let user = plain.user.iter().flat_map(|user| user.value.split(':'));
            let groups = plain.groups.iter().filter_map(|group| match group.value {
                GroupName::Number(gid) => Some(gid),
                GroupName::Name(_) => None,
            });
            let own = plain.filesystem_group.as_ref().map(|fact| fact.value);
            user.filter_map(|part| part.parse().ok()).chain(groups).chain(own).collect()
        }
        Who::Process(process) => {
            let groups = process.groups.iter().map(|fact| fact.value);
            groups.chain([process.uid.value, process.gid.value]).collect()
        }
        Who::Running(resolved) => {
            let all = resolved.possible.iter().map(|(_, identity): &(Arc<str>, _)| identity);
            all.flat_map(|identity| {
                let groups = identity.groups.iter().filter_map(|gid| gid.id()).map(InsideGid::raw);
                let user = identity.uid.id().map(InsideUid::raw);
                let own = identity.gid.id().map(InsideGid::raw);
                groups.chain(user).chain(own).collect::<Vec<_>>()
            })
            .collect()
        }
    }
}
