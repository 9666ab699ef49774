//! One actor standing before its mount table: the facts a decision may look at.

use mivask_model::caps::CapabilitySet;
use mivask_model::credentials::Credentials;
use mivask_model::fact::{Provenance, Unknown};
use mivask_model::ids::{DiskOwner, KernelGid, KernelUid};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::{Mount, MountId, MountTable, Source, SourceId};
use mivask_model::personality::{Personality, Squash};
use mivask_model::storage::{Settings, Storage};
use mivask_model::tree::{Attribute, Certainty, Doubt, Inode, InodeId, Marks, Tree};
use mivask_model::unmodelled::Unmodelled;

use crate::confined::Confined;
use crate::fs_credentials::FsCredentials;
use crate::profile::Profile;
use crate::usual;
use crate::witness::{MissingFact, Witness};

/// Owner and group in kernel ids; `None` for each that has no mapping.
pub type Owner = (Option<KernelUid>, Option<KernelGid>);

/// An inode seen through a mount.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Place {
    /// The mount it is seen through.
    pub mount: MountId,
    /// The source the mount shows.
    pub source: SourceId,
    /// The inode, or `None` where it is presumed to exist below a directory of unknown contents.
    pub inode: Option<InodeId>,
}

/// What one actor's decisions rest on.
#[derive(Clone, Copy, Debug)]
pub struct View<'a> {
    storage: &'a Storage,
    mounts: &'a MountTable,
    /// The process that acts.
    pub who: &'a Credentials,
    /// Its name in answers.
    pub name: &'a str,
    /// Which devices it may open.
    pub devices: Devices,
    /// What was asked for it that no rule here follows.
    pub unmodelled: &'a [Unmodelled],
    /// Its label and the host's policy, where SELinux decides.
    pub confined: Option<&'a Confined>,
    /// The AppArmor profile of its engine, where it has one.
    pub profile: Option<Profile>,
}

/// Which devices a container may open (the device cgroup).
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Devices {
    /// Those of the runtime's default list.
    Listed,
    /// Every one: a privileged container, or no container at all.
    All,
}

impl<'a> View<'a> {
    /// The view of `who` over `mounts`, whose sources are in `storage`. `name` means it in answers.
    #[must_use]
    pub const fn new(
        storage: &'a Storage,
        mounts: &'a MountTable,
        who: &'a Credentials,
        name: &'a str,
        devices: Devices,
    ) -> Self {
        Self { storage, mounts, who, name, devices, unmodelled: &[], confined: None, profile: None }
    }

    /// The same where this was asked for as well, which no rule follows.
    #[must_use]
    pub const fn with_unmodelled(self, unmodelled: &'a [Unmodelled]) -> Self {
        Self { unmodelled, ..self }
    }

    /// The same where SELinux decides, too.
    #[must_use]
    pub const fn confined_by(self, confined: Option<&'a Confined>) -> Self {
        Self { confined, ..self }
    }

    /// The same under the engine's AppArmor profile.
    #[must_use]
    pub const fn profiled(self, profile: Option<Profile>) -> Self {
        Self { profile, ..self }
    }

    /// The same process before other mounts.
    #[must_use]
    pub const fn before(self, mounts: &'a MountTable) -> Self {
        Self { mounts, ..self }
    }

    /// What somebody else has before the same mounts, by what the rules follow alone.
    pub(crate) const fn of(&self, who: &'a Credentials) -> Self {
        Self { who, unmodelled: &[], ..*self }
    }

    /// The mount `id`.
    #[must_use]
    #[inline]
    pub fn mount(&self, id: MountId) -> &'a Mount {
        self.mounts.get(id)
    }

    /// The mounts of the view.
    #[must_use]
    #[inline]
    pub const fn mounts(&self) -> &'a MountTable {
        self.mounts
    }

    /// The source `place` is in.
    #[must_use]
    #[inline]
    pub fn source(&self, place: Place) -> &'a Source {
        self.storage.source(place.source)
    }

    /// The kernel settings of the host.
    #[must_use]
    pub const fn settings(&self) -> &'a Settings {
        &self.storage.settings
    }

    /// The inode at `place`; `None` where it is only presumed.
    #[must_use]
    #[inline]
    pub fn inode(&self, place: Place) -> Option<&'a Inode> {
        place.inode.map(|id| self.source(place).tree.inode(id))
    }

    /// What is not certain about the inode at `place`.
    #[must_use]
    #[inline]
    pub fn doubt(&self, place: Place) -> Option<&'a Doubt> {
        place.inode.and_then(|id| self.source(place).tree.doubt(id))
    }

    /// Where the facts of the inode at `place` came from.
    #[must_use]
    pub fn provenance(&self, place: Place) -> Provenance {
        if let Some(text) = self.doubt(place).and_then(Doubt::assumed_attribute) {
            return Provenance::Assumption(text.clone());
        }
        let tree = &self.source(place).tree;
        place.inode.map_or_else(|| tree.origin().clone(), |id| tree.place(id))
    }

    /// `stored` at `place` as the kernel compares it; `None` for each id that has no mapping.
    #[must_use]
    #[inline]
    pub fn kernel_owner(&self, place: Place, stored: DiskOwner) -> Owner {
        let ids = &self.mount(place.mount).facts.ids;
        (ids.to_kernel_uid(stored.uid), ids.to_kernel_gid(stored.gid))
    }

    /// Owner and group at `place` as they are stored, as far as they are given; `None` where the inode is presumed.
    #[must_use]
    #[inline]
    pub fn owner(&self, place: Place) -> Option<Attribute<'a, DiskOwner>> {
        place.inode.map(|id| self.source(place).tree.owner(id))
    }

    /// The permission bits at `place`, as far as they are given; `None` where the inode is presumed.
    #[must_use]
    #[inline]
    pub fn mode(&self, place: Place) -> Option<Attribute<'a, Mode>> {
        place.inode.map(|id| self.source(place).tree.mode(id))
    }

    /// Whether the filesystem at `place` is certain to let the local kernel decide.
    pub(crate) fn is_native<W: Witness>(&self, place: Place, w: &mut W) -> bool {
        match &self.source(place).facts.native {
            Certainty::Known => true,
            Certainty::Assumed(text) => {
                w.assume(|| text.clone());
                true
            }
            Certainty::Unknown(_) => false,
        }
    }

    /// Whether `place` certainly is of another kind than `kind`.
    #[must_use]
    pub fn is_not(&self, place: Place, kind: FileKind) -> bool {
        self.inode(place).is_some_and(|inode| inode.kind != kind)
    }

    /// Whether `place` certainly is of `kind`.
    #[must_use]
    pub fn is(&self, place: Place, kind: FileKind) -> bool {
        self.inode(place).is_some_and(|inode| inode.kind == kind)
    }

    /// Who acts on the filesystem of `place`, asking how an NFS server squashes if not given.
    pub(crate) fn fs_credentials<W: Witness>(&self, place: Place, w: &mut W) -> FsCredentials<'a> {
        let source = self.source(place);
        let Personality::Nfs(nfs) = &source.facts.personality else {
            return FsCredentials::process(self.who).without(self.denied_capabilities());
        };
        let squash = nfs.export.squash.unwrap_or_else(|| {
            let fact = format!("how the server of {} squashes ids", source.facts.name);
            let unknown = Unknown::new(&fact, "give `export: { squash: root|all|none }` for the volume");
            let describe = |option: usize| match Squash::ALL[option] {
                Squash::Root => "the server squashes root (its default)".to_owned(),
                Squash::Nobody => "the server squashes no one".to_owned(),
                Squash::All => "the server squashes everyone".to_owned(),
            };
            Squash::ALL[w.choose(MissingFact::Squash(place.source), &unknown, Squash::ALL.len(), describe)]
        });
        FsCredentials::on_server(self.who, squash, &nfs.export)
    }

    /// The capabilities that the policy keeps from the process, whether it has them or not.
    pub(crate) fn denied_capabilities(&self) -> CapabilitySet {
        let initial = self.who.namespace.is_initial();
        self.confined.map_or(CapabilitySet::EMPTY, |confined| confined.denied_capabilities(initial))
    }

    /// Whether owner and mode of the inode at `place` are settled, as far as they are given or assumed.
    #[must_use]
    pub fn is_known(&self, place: Place) -> bool {
        place.inode.is_some() && self.doubt(place).is_none_or(|doubt| doubt.unknown_attribute().is_none())
    }

    /// The inode at `place` where its owner and mode are settled.
    #[must_use]
    pub fn known_inode(&self, place: Place) -> Option<&'a Inode> {
        if self.is_known(place) { self.inode(place) } else { None }
    }

    /// Whether the inode at `place` carries `marks`.
    #[must_use]
    pub fn has_marks(&self, place: Place, marks: Marks) -> bool {
        self.inode(place).is_some_and(|inode| inode.marks.has(marks))
    }

    /// What is not known about entries of the source of `place` that is not listed.
    #[must_use]
    pub fn unlisted(&self, place: Place) -> Unknown {
        let source = self.source(place);
        match source.tree.doubt(Tree::ROOT).map(|doubt| &doubt.contents) {
            Some(Certainty::Unknown(unknown)) => unknown.clone(),
            Some(Certainty::Known | Certainty::Assumed(_)) | None => {
                Unknown::new(&format!("what {} holds", source.facts.name), "give its tree in a scene file")
            }
        }
    }

    /// The root of `mount`, with the source chosen where several are possible.
    pub fn root_of<W: Witness>(&self, mount: MountId, w: &mut W) -> Place {
        let facts = self.mount(mount);
        let chosen = match (&facts.facts.question, facts.variants.len()) {
            (Some(unknown), count) if count > 1 => {
                let describe = |option: usize| facts.variants[option].when.to_string();
                w.choose_usually(
                    MissingFact::Variant(mount),
                    unknown,
                    count,
                    (|| usual::variant(unknown), describe),
                )
            }
            _ => 0,
        };
        let source = facts.variants[chosen].source;
        let inode = facts.root.or_else(|| self.root_of_either_kind(mount, source, w));
        Place { mount, source, inode }
    }

    /// Whether nobody knows if the inode at `place` is a directory or something else.
    #[must_use]
    pub fn is_of_unknown_kind(&self, place: Place) -> bool {
        self.doubt(place).is_some_and(|doubt| doubt.kind.unknown().is_some())
    }

    /// Whether `place` is the root of a mount of which nobody knows whether it is a directory or a file.
    #[must_use]
    pub fn is_of_either_kind(&self, place: Place) -> bool {
        self.is_unlisted_root(place)
            && self.mount(place.mount).root.is_none()
            && self.source(place).tree.file_instead().is_some()
    }

    /// Whether `place` is the root of a source whose tree is not given.
    #[must_use]
    pub fn is_unlisted_root(&self, place: Place) -> bool {
        let tree = &self.source(place).tree;
        let root = place.inode.is_some_and(|inode| inode == Tree::ROOT || tree.file_instead() == Some(inode));
        let unknown = |doubt: &Doubt| doubt.contents.unknown().is_some() && doubt.owner.unknown().is_some();
        root && tree.doubt(Tree::ROOT).is_some_and(unknown)
    }

    /// The root of a mount of which nobody knows whether it is a directory or a file.
    fn root_of_either_kind<W: Witness>(
        &self,
        mount: MountId,
        source: SourceId,
        w: &mut W,
    ) -> Option<InodeId> {
        let tree = &self.storage.source(source).tree;
        let file = tree.file_instead()?;
        let unknown = tree.doubt(file).and_then(|doubt| doubt.owner.unknown())?;
        let kind = tree.inode(file).kind;
        let at = String::from_utf8_lossy(&self.mount(mount).facts.at).into_owned();
        let describe = |option| {
            let device = if kind.is_device() { "device" } else { "file" };
            format!("what is mounted at {at} is a {}", if option == 0 { "directory" } else { device })
        };
        let of_path = || usual::kind(&self.mount(mount).facts.at).filter(|_| !kind.is_device());
        let usual = || usual::made(unknown).or_else(of_path);
        let chosen = w.choose_usually(MissingFact::Kind(source), unknown, 2, (usual, describe));
        Some(if chosen == 0 { Tree::ROOT } else { file })
    }

    /// Steps onto whatever is mounted over `place`, through stacked mounts (`follow_mount`).
    pub fn cross<W: Witness>(&self, mut place: Place, w: &mut W) -> Place {
        while let Some(covering) = place.inode.and_then(|inode| self.mounts.covering(place.mount, inode)) {
            place = self.root_of(covering, w);
        }
        place
    }

    /// Whether something is mounted on the inode at `place`, through this mount or another one of the same
    /// source (`is_local_mountpoint`).
    #[must_use]
    pub fn is_mount_point(&self, place: Place) -> bool {
        place.inode.is_some()
            && self.mounts.covered().any(|(on, inode)| {
                Some(inode) == place.inode
                    && self.mount(on).variants.iter().any(|variant| variant.source == place.source)
            })
    }

    /// The value of a kernel setting, asking for it if not given.
    pub fn setting<W: Witness>(&self, name: &'static str, given: Option<u8>, highest: u8, w: &mut W) -> u8 {
        if let Some(value) = given {
            return value;
        }
        let settle = format!("give it under `host: {{ sysctls: {{ {name}: ... }} }}`");
        let unknown = Unknown::new(&format!("the host's {name}"), &settle);
        let options = [1, 0, 2];
        let chosen = w.choose(MissingFact::Setting(name), &unknown, usize::from(highest) + 1, |option| {
            format!("{name} = {}", options[option])
        });
        options[chosen]
    }
}
