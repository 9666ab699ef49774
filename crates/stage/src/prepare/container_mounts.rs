//! One container while its mounts are made.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::fact::{Provenance, Unknown};
use mivask_model::ids::{KernelOwner, MountIds};
use mivask_model::mode::FileKind;
use mivask_model::mount::{MountFlags, MountId, MountOrigin, MountTable, SourceId};
use mivask_model::mount_kind::MountKind;
use mivask_model::path::{cleaned, trimmed};
use mivask_model::refusal::Refusal;
use mivask_model::refusal::RefusalClass;
use mivask_model::tree::InodeId;
use mivask_model::unmodelled::Unmodelled;
use mivask_model::usual::{Usual, UsualRule};

use mivask_rules::view::Place;

use super::context::Context;
use super::mount_point::{CannotMake, Made, Maker, find_or_make};
use super::prepared::Prepared;
use crate::identity::Knowledge;
use crate::need::Need;
use crate::runtime::{Flavour, Profile};
use crate::scene::{Container, Image, Who};
use crate::stage::Stage;

/// Which volumes were mounted and filled by earlier containers.
#[derive(Debug, Default)]
pub(super) struct Filled {
    pub mounted: BTreeSet<SourceId>,
    pub copied: BTreeSet<SourceId>,
    /// Anonymous volumes, by the container and the place that they were made for.
    pub anonymous: BTreeMap<String, Prepared>,
}

/// One mount about to be made.
pub(super) struct Attachment<'a> {
    pub at: &'a [u8],
    pub volume: &'a Prepared,
    pub root: Option<InodeId>,
    pub flags: MountFlags,
    pub origin: MountOrigin,
    pub from: &'a Provenance,
    pub ids: &'a MountIds,
}

pub(super) struct ContainerMounts<'a> {
    pub stage: &'a mut Stage,
    pub context: &'a Context<'a>,
    pub container: &'a Container,
    pub filled: &'a mut Filled,
    pub mounts: MountTable,
    /// The image alone, as an engine looks into it before anything is mounted.
    pub image_table: MountTable,
    pub image: Option<&'a Image>,
    pub blocked: Option<Refusal>,
    /// What has to be so for it to start.
    pub needs: Vec<Need>,
    /// What was taken for granted.
    pub assumptions: Vec<Arc<str>>,
    /// What of its mounts no rule here follows.
    pub unmodelled: Vec<Unmodelled>,
    /// Whether the runtime makes a user namespace for it, instead of leaving it in the engine's.
    pub own_namespace: bool,
    /// The namespace's ids as the map of a mount.
    pub own_ids: MountIds,
    /// The ids that files of the engine's storage have: the namespace's, also where a remapped engine leaves the container out of it.
    pub storage_ids: MountIds,
    /// Who makes mount points.
    pub creator: KernelOwner,
    /// The same as ids inside.
    pub inside: (Option<u32>, Option<u32>),
    /// The process's own user and group, where they are settled.
    pub process: Option<KernelOwner>,
}

impl ContainerMounts<'_> {
    pub(super) const fn profile(&self) -> &Profile {
        self.context.profile
    }

    pub(super) fn maker(&self) -> Maker {
        Maker { ids: self.own_ids.clone(), ..Maker::runtime(&self.profile().mount_points, self.creator) }
    }

    pub(super) fn stop(&mut self, class: RefusalClass, reason: String, from: Provenance) {
        self.blocked.get_or_insert(Refusal { class, reason, from, whole_pod: false });
    }

    /// Whether the description or the image names a user.
    pub(super) fn names_a_user(&self) -> bool {
        let Who::Plain(plain) = &self.container.who else { return false };
        let image = self.image.map(|image| &image.identity.user);
        let of_image = matches!(image, Some(Knowledge::Known(Some(user))) if !user.value.is_empty());
        plain.user.as_ref().is_some_and(|user| !user.value.is_empty()) || of_image
    }

    /// Whether a remapped engine leaves this container out of its namespace.
    pub(super) fn is_left_out(&self) -> bool {
        self.own_ids.uids.is_identity() && !self.storage_ids.uids.is_identity()
    }

    /// Gives the one file of a remapped engine's storage the owner that it has on disk.
    pub(super) fn as_stored(&mut self, volume: &mut Prepared) {
        let renumber = self.renumbering();
        for variant in &mut volume.variants {
            let mut source = self.stage.source(variant.source).clone();
            let tree = Arc::make_mut(&mut source.tree);
            for id in tree.ids() {
                let inode = *tree.inode(id);
                let place = tree.place(id);
                tree.own(id, renumber(inode.stored_owner()), inode.stored_mode(), place);
            }
            variant.source = self.stage.add_source(source);
        }
    }

    /// The flags of a volume's mount: in a user namespace Podman adds none of its own.
    pub(super) fn volume_flags(&self, volume: &Prepared) -> MountFlags {
        let inside = self.own_namespace && !self.own_ids.uids.is_identity();
        let of_engine = volume.kind == MountKind::Volume && self.context.workload.flavour == Flavour::Compose;
        if inside && of_engine { volume.flags.without(self.profile().volumes.flags) } else { volume.flags }
    }

    /// A remapped Docker gives no privileges inside its namespace.
    pub(super) fn refuses_privileges(&mut self) {
        let inside = self.container.privileged && self.own_namespace && !self.own_ids.uids.is_identity();
        if inside && self.profile().refuses_privileged_in_namespace {
            let reason =
                "privileged containers are refused in a user namespace: `userns_mode: host` leaves it"
                    .to_owned();
            self.stop(RefusalClass::StartRefused, reason, self.container.from.clone());
        }
    }

    /// Where `new` is mounted, made if it is missing.
    pub(super) fn mount_point(&mut self, new: &Attachment<'_>, kind: FileKind) -> Result<Place, CannotMake> {
        let mut maker = self.maker();
        maker.of_either_kind = new.root.is_none();
        // crun makes the directory of a tmpfs by another way than that of a bind.
        maker.follows_dangling |= new.volume.kind == MountKind::Tmpfs;
        let (presumed, place) = match find_or_make(self.stage, &self.mounts, new.at, kind, &maker) {
            Ok(Made { place, presumed: None }) => return Ok(place),
            Ok(Made { place, presumed: Some(presumed) }) => (presumed, place),
            Err(CannotMake::ReadOnly(around)) => {
                // Whoever writes to the volume may have made it by then.
                let Some(writer) = self.writer(around) else { return Err(CannotMake::ReadOnly(around)) };
                maker.in_read_only = true;
                maker.in_read_only_tmpfs = true;
                let made = find_or_make(self.stage, &self.mounts, new.at, kind, &maker)?;
                let settle = format!("no scene can supply it: it is there if {writer} makes it");
                self.need(new, around, "mounted read-only, ", (&format!(" ({writer} made it)"), &settle));
                return Ok(made.place);
            }
            Err(other) => return Err(other),
        };
        let how = if presumed.kernel { "" } else { "mounted read-only, " };
        self.need(new, presumed.around, how, ("", &presumed.settle));
        Ok(place)
    }

    /// Who may write to what this container mounts read-only.
    fn writer(&self, around: MountId) -> Option<String> {
        let at = &self.mounts.get(around).facts.at;
        let mount = self.container.mounts.iter().find(|mount| trimmed(&mount.at.value) == trimmed(at))?;
        let Context { sharing, workload, .. } = self.context;
        sharing.other_writer(workload, &self.container.name, &mount.volume.value)
    }

    /// `shown` is how the mount around it is mounted, or nothing where the kernel alone makes what is in it.
    fn need(&mut self, new: &Attachment<'_>, around: MountId, shown: &str, (how, settle): (&str, &str)) {
        let mount = self.mounts.get(around);
        let volume = mount.facts.label.clone().unwrap_or_else(|| {
            let source = mount.variants[0].source;
            self.stage.source(source).facts.name.clone()
        });
        let at = quoted(new.at);
        let comma = if shown.is_empty() { " " } else { ", " };
        let when = format!("{volume} has the mount point {at}{how}");
        // The kernel alone makes what is in its own file systems: a name of somebody's choice is usually not there.
        let usual = (!shown.is_empty()).then(|| Usual::shared(UsualRule::Starts, &when));
        let fact = format!("whether {volume}{comma}{shown}has the mount point {at}");
        let unknown = Unknown::new(&fact, settle).usually(usual);
        let within = if shown.is_empty() { "there" } else { "in a read-only mount" };
        self.needs.push(Need {
            when: when.as_str().into(),
            otherwise: format!("{volume} lacks the mount point {at}, which cannot be made {within}").into(),
            unknown,
            from: new.from.clone(),
        });
    }

    /// Why nothing starts with `new` for its `/dev`: the runtime opens `/dev/null` there, and makes devices of its own in no volume.
    pub(super) fn lacks_devices(&self, new: &Attachment<'_>) -> Option<String> {
        let engine = !matches!(self.context.workload.flavour, Flavour::Bundle | Flavour::Scene);
        if !engine || new.origin != MountOrigin::Declared || cleaned(new.at) != b"/dev" {
            return None;
        }
        if new.volume.kind == MountKind::Tmpfs {
            let closed = self.profile().mount_points.guards_proc && new.flags.has(MountFlags::NO_DEV);
            return closed.then(|| "the tmpfs at /dev is nodev: /dev/null cannot be opened".to_owned());
        }
        let (Some(root), source) = (new.root, self.stage.source(new.volume.variants[0].source)) else {
            return None;
        };
        let tree = &source.tree;
        let known = tree.inode(root).kind == FileKind::Directory && !tree.is_unlisted(root);
        let lacks = known && tree.lookup(root, b"null").is_none();
        lacks.then(|| format!("{} has no /dev/null, which the runtime opens", source.facts.name))
    }

    /// What runc refuses to hide of `/proc` (`checkProcMount`); some files alone may be replaced.
    pub(super) fn guards(&self, new: &Attachment<'_>) -> Option<String> {
        /// `/proc/net/dev` is one to runc, too, and yet `net` leads into a process's own directory.
        const REPLACED: [&str; 10] = [
            "cpuinfo",
            "diskstats",
            "meminfo",
            "stat",
            "swaps",
            "uptime",
            "loadavg",
            "slabinfo",
            "sys/kernel/ns_last_pid",
            "sys/crypto/fips_enabled",
        ];
        let bound = !matches!(new.volume.kind, MountKind::Runtime(_) | MountKind::Tmpfs);
        let at = cleaned(new.at);
        let guarded = bound && new.origin == MountOrigin::Declared && self.profile().mount_points.guards_proc;
        let below = at
            .strip_prefix(b"/proc")
            .filter(|rest| guarded && rest.first().is_none_or(|byte| *byte == b'/'))?;
        match below.strip_prefix(b"/") {
            Some(name) if REPLACED.iter().any(|known| known.as_bytes() == name) => None,
            Some(_) => Some(format!("runc mounts nothing at {}: it is inside /proc", quoted(&at))),
            None => Some("runc mounts nothing but proc at /proc".to_owned()),
        }
    }
}
