//! What a runtime, and a kubelet, mount into every container (docs/facts/runtimes.md section 6, docs/facts/kubelet.md section 3).

use mivask_model::fact::{Fact, Provenance};
use mivask_model::ids::{InsideGid, InsideUid};
use mivask_model::mode::Mode;
use mivask_model::mount::{MountFlags, MountOrigin};
use mivask_model::path::{cleaned, trimmed};
use mivask_model::tree::Tree;

use super::api_volume;
use super::context::Context;
use super::default_sources::{Placement, last};
use super::default_trees::{DEVICES, DeviceTree, is_file};
use super::joined;
use super::prepared::{Prepared, Ready};
use super::space::user_namespace;
use super::tree_cache::TreeCache;
use crate::runtime::{DefaultKind, DefaultRow, Flavour};
use crate::scene::{Container, Ipc, TmpfsAsked, VolumeKind};
use crate::stage::Stage;

/// A default mount: where and what.
pub(super) struct DefaultMount {
    pub at: Vec<u8>,
    pub volume: Ready,
    pub from: Provenance,
    /// Whether the runtime makes it before everything the description asks for.
    pub first: bool,
    pub origin: MountOrigin,
    /// What its owners are.
    pub ids: DefaultIds,
}

/// Whose ids the files of a default mount have.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum DefaultIds {
    /// Those inside the container's namespace.
    Inside,
    /// Those of the engine's storage.
    Storage,
    /// The host's, as the kernel's own files and devices that are bound from there.
    Host,
}

/// The default mounts of one container, outer ones first.
pub(super) fn mounts(
    stage: &mut Stage,
    cache: &mut TreeCache,
    context: &Context<'_>,
    (container, process): (&Container, (Option<u32>, Option<u32>)),
) -> Vec<DefaultMount> {
    let pod = context.workload.flavour == Flavour::Pod;
    let own = if pod { "" } else { container.name.as_str() };
    let placing = Placement { stage, cache, own };
    let mut making = DefaultMounts { placing, container, process, proc: None, all: Vec::new() };
    // Rows come in the order in which the runtime mounts them; a later one covers an earlier one.
    for row in context.profile.defaults.iter().copied().flatten() {
        making.row(context, row);
    }
    if pod {
        making.kubelet(context);
    }
    making.all
}

/// A file system of the kernel's that a bundle lists itself.
pub(super) fn system(stage: &mut Stage, cache: &mut TreeCache, filesystem: &str) -> Prepared {
    let mut placing = Placement { stage, cache, own: "" };
    match filesystem {
        "dev" => placing.devices(DeviceTree::default(), MountFlags::NONE),
        "mqueue" => placing.shared_memory("/dev/mqueue", 0o1777, MountFlags::NONE),
        "devpts" => placing.terminals(MountFlags::NONE),
        other => placing.kernel_files(other, MountFlags::NONE),
    }
}

struct DefaultMounts<'a> {
    placing: Placement<'a>,
    container: &'a Container,
    /// The process's user and group as they are inside, where they are settled.
    process: (Option<u32>, Option<u32>),
    /// The container's `/proc`, parts of which are mounted again.
    proc: Option<Prepared>,
    all: Vec<DefaultMount>,
}

/// The files that go with a network, in the order in which the kubelet binds them.
const NETWORK_FILES: [&str; 3] = ["hosts", "hostname", "resolv.conf"];

impl DefaultMounts<'_> {
    fn row(&mut self, context: &Context<'_>, row: &DefaultRow) {
        let privileged = self.container.privileged;
        let read_only =
            |flags: MountFlags, when: bool| if when { flags.with(MountFlags::READ_ONLY) } else { flags };
        let (volume, first) = match row.kind {
            DefaultKind::Proc => {
                (self.proc.insert(self.placing.kernel_files("proc", row.flags)).clone(), true)
            }
            // A privileged container gets a writable /sys, as device managers need it.
            DefaultKind::Sys => (self.placing.kernel_files("sysfs", read_only(row.flags, !privileged)), true),
            DefaultKind::Devices => {
                // What is mounted on `/dev/shm` in its place finds nothing there.
                let own = self.container.mounts.iter().any(|mount| trimmed(&mount.at.value) == b"/dev/shm");
                let memory = self.container.ipc != Ipc::None && !own;
                // An open pipe is not `/dev/null`, and under a user namespace that is the host's.
                let input = self.container.holds_input && !self.container.terminal;
                let given = context.profile.gives_null_away && !input && !self.namespaced(context);
                let owner = self.process.0.zip(self.process.1).filter(|_| given);
                let null = owner.unwrap_or_default();
                (self.placing.devices(DeviceTree { privileged, memory, null }, row.flags), true)
            }
            DefaultKind::Terminals => (self.placing.terminals(row.flags), true),
            DefaultKind::Shared(mode) => match self.memory(context, row, mode) {
                Some(volume) => (volume, true),
                None => return,
            },
            DefaultKind::File { of_network: true, .. } if self.container.without_network => return,
            DefaultKind::File { mode, under_read_only_root, of_network: _ } => {
                let read_only = self.container.read_only_root;
                let flags = if read_only { row.flags.with(under_read_only_root) } else { row.flags };
                (self.network_file(context, row.at, mode, flags), false)
            }
            DefaultKind::Marker(_) if self.hidden(context, row.at) => return,
            DefaultKind::Marker(mode) => (self.network_file(context, row.at, mode, row.flags), false),
            DefaultKind::Console if !self.container.terminal => return,
            DefaultKind::Console => (self.placing.console(self.process.0, row.flags), false),
            DefaultKind::ScratchUnderReadOnlyRoot => {
                if !self.container.read_only_root || self.container.no_scratch {
                    return;
                }
                let mode = Some(Mode::new(0o1777));
                let asked = TmpfsAsked { mode, added: row.flags, ..TmpfsAsked::default() };
                return self.push(row.at, Ready::Tmpfs(asked), false, MountOrigin::Default);
            }
            // Neither `privileged` nor `procMount: Unmasked` leaves anything hidden.
            DefaultKind::Masked | DefaultKind::ReadOnly if privileged || self.container.unmasked => return,
            DefaultKind::Masked => {
                // What covers a file is on `/dev`, or a device of the host.
                let bound = self.namespaced(context) && row.flags.has(MountFlags::NO_SUID);
                let flags = if bound { MountFlags::NONE } else { row.flags };
                let volume = self.placing.mask(is_file(row.at), flags);
                return self.push(row.at, volume, true, MountOrigin::Shield);
            }
            DefaultKind::ReadOnly => {
                let volume = self.read_only_part(row.at, row.flags);
                return self.push(row.at, volume, true, MountOrigin::Shield);
            }
        };
        self.push(row.at, Ready::Shared(volume), first, MountOrigin::Default);
        if row.kind == DefaultKind::Devices {
            self.host_devices(context);
        }
        if let (DefaultKind::Shared(mode), "/dev/mqueue") = (row.kind, row.at) {
            self.queues_of_no_group(context, mode);
        }
    }

    /// Gives the message queues just mounted their owner in a user namespace: its root, and the host's group 0, since runc's process
    /// has no group of the namespace yet when it mounts them.
    fn queues_of_no_group(&mut self, context: &Context<'_>, mode: u16) {
        if !context.profile.mount_points.guards_proc {
            return;
        }
        let Some(namespace) = user_namespace(context, self.container) else { return };
        let (true, Some(root)) = (self.namespaced(context), namespace.value.to_kernel_uid(InsideUid::new(0)))
        else {
            return;
        };
        if !matches!(self.container.ipc, Ipc::Default | Ipc::Private | Ipc::Shareable | Ipc::None) {
            return;
        }
        let volume = self.placing.queues(root.raw(), mode);
        if let Some(last) = self.all.last_mut() {
            let flags =
                if let Ready::Shared(before) = &last.volume { before.flags } else { MountFlags::NONE };
            last.volume = Ready::Shared(Prepared { flags, ..volume });
            last.ids = DefaultIds::Host;
        }
    }

    /// Whether a tmpfs or a bind is mounted at the directory of `at`, or around it: Podman mounts its volumes before the file.
    fn hidden(&self, context: &Context<'_>, at: &str) -> bool {
        let directory = at.strip_suffix(last(at)).unwrap_or(at).as_bytes();
        let covers = |mount: &[u8]| {
            let around = [&cleaned(mount), b"/".as_slice()].concat();
            around.len() > 2 && directory.starts_with(&around)
        };
        let before = |name: &str| {
            let mut volumes = context.workload.volumes.iter();
            let kind = volumes.find(|volume| volume.name.value == name).map(|volume| &volume.kind);
            matches!(kind, Some(VolumeKind::Named { .. } | VolumeKind::Anonymous))
        };
        // What the description mounts at the place of a default mount is there instead of it.
        let replaced =
            |at: &[u8]| self.container.mounts.iter().any(|mount| cleaned(&mount.at.value) == cleaned(at));
        self.all.iter().any(|mount| covers(&mount.at) && !replaced(&mount.at))
            || self
                .container
                .mounts
                .iter()
                .any(|mount| covers(&mount.at.value) && !before(&mount.volume.value))
    }

    fn namespaced(&self, context: &Context<'_>) -> bool {
        user_namespace(context, self.container).is_some_and(|namespace| !namespace.value.uids.is_identity())
    }

    /// A part of `/proc`, mounted again and read-only.
    fn read_only_part(&mut self, at: &str, flags: MountFlags) -> Ready {
        let whole = match &self.proc {
            Some(proc) => proc.clone(),
            None => self.proc.insert(self.placing.kernel_files("proc", MountFlags::NONE)).clone(),
        };
        let tree = &self.placing.stage.source(whole.variants[0].source).tree;
        let root = tree.find(at.trim_start_matches("/proc").as_bytes()).or(Some(Tree::ROOT));
        Ready::Shared(Prepared { root, flags: flags.with(MountFlags::READ_ONLY), ..whole })
    }

    /// `/dev/shm` or `/dev/mqueue`, from whom the container has it.
    fn memory(&mut self, context: &Context<'_>, row: &DefaultRow, mode: u16) -> Option<Prepared> {
        let name = last(row.at);
        let own = self.placing.own;
        let volume = match &self.container.ipc {
            Ipc::Default | Ipc::Private | Ipc::Shareable => {
                self.placing
                    .of(own, name, row.flags, |placing| placing.shared_memory(row.at, mode, row.flags))
            }
            // The message queues are those of a namespace of its own.
            Ipc::None if name == "shm" => return None,
            Ipc::None => self.placing.shared_memory(row.at, mode, row.flags),
            Ipc::Host(from) => {
                let volume = joined::of_host(self.placing.stage, context, (row.at, from));
                let added = if name == "shm" { context.profile.joins.host_flags } else { row.flags };
                Prepared { flags: volume.flags.with(added), ..volume }
            }
            // One that lends what it does not have itself gives a new one.
            Ipc::Of(lender) if self.placing.cache.lenders.has(&lender.value) => {
                self.placing.of(&lender.value, name, row.flags, |placing| {
                    placing.shared_memory(row.at, mode, row.flags)
                })
            }
            Ipc::Of(lender) | Ipc::Elsewhere(lender) => {
                let volume = joined::elsewhere(self.placing.stage, (row.at, lender));
                Prepared { flags: row.flags, ..volume }
            }
        };
        if !own.is_empty() {
            self.placing.cache.joined.insert((own.to_owned(), name.to_owned()), volume.clone());
        }
        Some(volume)
    }

    /// A file that goes with the network; the rest of `/etc` is the container's own.
    fn network_file(&mut self, context: &Context<'_>, at: &str, mode: u16, flags: MountFlags) -> Prepared {
        let name = last(at);
        let own = self.placing.own;
        let make = |placing: &mut Placement<'_>| placing.single_file(name, mode, flags);
        if own.is_empty() || !NETWORK_FILES.contains(&name) {
            return make(&mut self.placing);
        }
        let lender = self.container.network_of.as_ref().filter(|_| context.profile.joins.network_files);
        let lender = lender.map_or(own, |lender| lender.value.as_str());
        let volume = self.placing.of(lender, name, flags, make);
        self.placing.cache.joined.insert((own.to_owned(), name.to_owned()), volume.clone());
        volume
    }

    fn push(&mut self, at: &str, volume: Ready, first: bool, origin: MountOrigin) {
        let from = Provenance::Rule(self.placing.cache.word("the runtime mounts it into every container"));
        // The kernel makes the inodes of proc and sysfs itself, owned by its own root whatever the namespace maps.
        let of_kernel = at.starts_with("/proc") || at.starts_with("/sys");
        let stored = at.starts_with("/etc") || at.starts_with("/run");
        let ids = match (of_kernel, stored) {
            (true, _) => DefaultIds::Host,
            (false, true) => DefaultIds::Storage,
            (false, false) => DefaultIds::Inside,
        };
        self.all.push(DefaultMount { at: at.as_bytes().to_vec(), volume, from, first, origin, ids });
    }

    /// In a user namespace nobody makes devices, so the host's are bound.
    fn host_devices(&mut self, context: &Context<'_>) {
        let Some(namespace) = user_namespace(context, self.container) else { return };
        if namespace.value.uids.is_identity() {
            return;
        }
        let open = self.container.holds_input && !self.container.terminal;
        // Nobody but root gives the host's away.
        let of_root = matches!(context.starter, Ok(None));
        let given = context.profile.gives_null_away && of_root && !open;
        let own = self.process.0.zip(self.process.1).filter(|_| given).and_then(|(user, group)| {
            let user = namespace.value.to_kernel_uid(InsideUid::new(user))?;
            Some((user.raw(), namespace.value.to_kernel_gid(InsideGid::new(group))?.raw()))
        });
        for (name, major, minor) in DEVICES {
            let owner = if name == "null" { own.unwrap_or_default() } else { (0, 0) };
            let volume = self.placing.host_device(name, (major, minor), owner);
            let from = Provenance::Rule(self.placing.cache.word("the runtime binds the host's device"));
            let (at, ids) = (format!("/dev/{name}").into_bytes(), DefaultIds::Host);
            let (volume, origin) = (Ready::Shared(volume), MountOrigin::Default);
            self.all.push(DefaultMount { at, volume, from, first: true, origin, ids });
        }
    }

    /// What the kubelet adds. Its own /etc/hosts stays writable when the root is read-only; the runtime's two do not.
    fn kubelet(&mut self, context: &Context<'_>) {
        let rule = Provenance::Rule(self.placing.cache.word("the kubelet binds it into every container"));
        let with_root =
            if self.container.read_only_root { MountFlags::READ_ONLY } else { MountFlags::default() };
        for (name, flags) in NETWORK_FILES.into_iter().zip([MountFlags::default(), with_root, with_root]) {
            let volume = self.placing.of("", name, flags, |placing| placing.single_file(name, 0o644, flags));
            self.add(format!("/etc/{name}").as_bytes(), volume, rule.clone());
        }
        let log = self.container.termination_log.as_ref();
        let at = log.map_or(&b"/dev/termination-log"[..], |path| path.value.as_slice());
        let from = log.map_or(rule, |path| path.from.clone());
        let volume = self.placing.single_file("termination-log", 0o666, MountFlags::default());
        self.add(at, volume, from);
        let token = context.workload.service_account_token.as_ref();
        // `automountServiceAccountToken` may also be set on the service account, which the manifest does not hold.
        if token.is_none_or(|given| given.value) {
            let assumed =
                || Provenance::Assumption("the service account mounts its token, as by default".into());
            let from = token.map_or_else(assumed, |given| given.from.clone());
            // One volume for all containers of the pod: the kubelet writes it once.
            let volume = self.placing.of("", "token", MountFlags::READ_ONLY, |placing| {
                let name = Fact::new("service account token".to_owned(), from.clone());
                api_volume::prepare(placing.stage, context, &name, &api_volume::service_account())
            });
            self.add(b"/var/run/secrets/kubernetes.io/serviceaccount", volume, from);
        }
    }

    fn add(&mut self, at: &[u8], volume: Prepared, from: Provenance) {
        let at = at.to_vec();
        let volume = Ready::Shared(volume);
        let (origin, ids) = (MountOrigin::Default, DefaultIds::Inside);
        self.all.push(DefaultMount { at, volume, from, first: false, origin, ids });
    }
}
