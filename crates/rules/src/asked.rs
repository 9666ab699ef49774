//! What decisions ask of an inode's owner and mode.
//!
//! Neither can be read without saying what comes of it where it is not given: each question then is a missing fact with two
//! answers, and both are tried. A question that is settled by what is given is never asked, so that giving a fact takes
//! possibilities away and adds none.

use mivask_model::caps::Capability;
use mivask_model::fact::Unknown;
use mivask_model::held::Held;
use mivask_model::ids::{DiskOwner, KernelGid, KernelUid};
use mivask_model::mode::Mode;
use mivask_model::tree::Attribute;

use crate::fs_credentials::FsCredentials;
use crate::usual_place;
pub(crate) use crate::view::Owner;
use crate::view::{Place, View};
use crate::witness::{MissingFact, Subject, Witness};

/// One inode that is asked about, with the path that names it in words.
pub(crate) struct Asked<'a, 'p, W> {
    pub(crate) view: &'p View<'a>,
    pub(crate) place: Place,
    path: &'p [u8],
    pub(crate) w: &'p mut W,
}

impl<'a, 'p, W: Witness> Asked<'a, 'p, W> {
    /// About the inode at `place`, which `path` names.
    pub(crate) fn new(view: &'p View<'a>, place: Place, path: &'p [u8], w: &'p mut W) -> Self {
        Self { view, place, path, w }
    }

    /// Owner and group, where they are given or taken for granted.
    pub(crate) fn owner(&mut self) -> Option<Owner> {
        let source = self.view.source(self.place);
        let owner = match self.place.inode {
            Some(id) => source.tree.owner(id),
            None => {
                let shown = source.facts.personality.shown()?;
                Attribute::Known(DiskOwner { uid: shown.uid, gid: shown.gid })
            }
        };
        self.note(owner).map(|owner| self.view.kernel_owner(self.place, owner))
    }

    /// The permission bits, where they are given or taken for granted.
    pub(crate) fn mode(&mut self) -> Option<Mode> {
        let id = self.place.inode?;
        self.note(self.view.source(self.place).tree.mode(id))
    }

    /// Owner, group and mode as they usually are on the disk, where nobody knows them and what is usual is followed.
    pub(crate) fn usually_stored(&self) -> Option<(DiskOwner, Mode)> {
        if !self.w.is_as_usual() || self.view.is_known(self.place) {
            return None;
        }
        let unknown = self.unknown(Which::Mode);
        let (_, owner, mode) = usual_place::stored(self.view, self.place, self.path, &unknown)?;
        Some((owner, mode))
    }

    /// Whether it is of user `uid`.
    pub(crate) fn is_of(&mut self, uid: Held<KernelUid>) -> bool {
        if let Some((owner, _)) = self.owner() {
            return owner.is_some_and(|owner| uid.is(owner));
        }
        let path = self.text();
        let name = if uid == self.view.who.fsuid { self.view.name.to_owned() } else { format!("uid {uid}") };
        if let (Some(names), Some(uid)) = (self.names(), uid.id()) {
            return self.is_of_named(names, uid, &name);
        }
        let describe =
            |yes| if yes { format!("{name} owns {path}") } else { format!("somebody else owns {path}") };
        let answer = |(owner, _): Owner| owner.map(|owner| uid.is(owner));
        self.ask_owner_usually(MissingFact::Owner(self.subject(), uid), (answer, describe))
    }

    /// Whether `acting` is in its group (`vfsgid_in_group_p`).
    pub(crate) fn shares_group(&mut self, acting: &FsCredentials<'_>) -> bool {
        if let Some((_, group)) = self.owner() {
            return group.is_some_and(|group| acting.in_group(group));
        }
        let path = self.text();
        let name = self.view.name;
        if let Some(names) = self.names() {
            return self.shares_named(names, acting);
        }
        let describe = |yes| {
            if yes {
                format!("{name} is in the group of {path}")
            } else {
                format!("{name} is not in the group of {path}")
            }
        };
        let answer = |(_, group): Owner| group.map(|group| acting.in_group(group));
        self.ask_owner_usually(MissingFact::Member(self.subject()), (answer, describe))
    }

    /// Whether its group is `gid`.
    pub(crate) fn is_of_group(&mut self, gid: KernelGid) -> bool {
        if let Some((_, group)) = self.owner() {
            return group == Some(gid);
        }
        let path = self.text();
        if let Some(names) = self.names() {
            return self.is_of_named_group(names, gid);
        }
        let describe = |yes| {
            if yes {
                format!("the group of {path} is {gid}")
            } else {
                format!("the group of {path} is another")
            }
        };
        let answer = |(_, group): Owner| group.map(|group| group == gid);
        self.ask_owner_usually(MissingFact::Group(self.subject(), gid), (answer, describe))
    }

    /// Whether it is of the same user as `other`, which `other_path` names; an owner without a mapping is nobody's
    /// (`vfsuid_eq`).
    pub(crate) fn is_of_owner_of(&mut self, other: Place, other_path: &[u8]) -> bool {
        let mine = self.owner();
        let theirs = Asked::new(self.view, other, other_path, &mut *self.w).owner();
        match (mine, theirs) {
            (Some((mine, _)), Some((theirs, _))) => return mine.is_some() && mine == theirs,
            // Whoever has no mapping is equal to no one, whoever that is.
            (Some((None, _)), None) | (None, Some((None, _))) => return false,
            (Some((Some(uid), _)), None) => {
                return Asked::new(self.view, other, other_path, self.w).is_of(Held::Id(uid));
            }
            (None, Some((Some(uid), _))) => return self.is_of(Held::Id(uid)),
            (None, None) => {}
        }
        let theirs = Asked::new(self.view, other, other_path, &mut *self.w).names();
        if let (Some(mine), Some(theirs)) = (self.names(), theirs)
            && self.place.source == other.source
        {
            return self.have_one_user(mine, (theirs, other, other_path));
        }
        let texts = (self.text(), text(other_path));
        let question = MissingFact::SameOwner(self.subject(), subject(other, other_path));
        self.ask_owner(question, |yes| {
            let (a, b) = &texts;
            if yes { format!("{a} and {b} have one owner") } else { format!("{a} and {b} have two owners") }
        })
    }

    /// Whether everybody is mapped on the mount, the owner among them.
    pub(crate) fn is_surely_mapped(&self) -> bool {
        let ids = &self.view.mount(self.place.mount).facts.ids;
        ids.uids.is_identity() && ids.gids.is_identity()
    }

    /// Whether owner and group both have a mapping on the mount.
    pub(crate) fn is_mapped(&mut self) -> bool {
        if let Some((uid, gid)) = self.owner() {
            return uid.is_some() && gid.is_some();
        }
        if self.is_surely_mapped() {
            return true;
        }
        let path = self.text();
        let describe = |yes| {
            let have = if yes { "have" } else { "lack" };
            format!("owner and group of {path} {have} a mapping on its mount")
        };
        let answer = |(owner, group): Owner| Some(owner.is_some() && group.is_some());
        self.ask_owner_usually(MissingFact::Mapped(self.subject()), (answer, describe))
    }

    /// Which of owner and group have no mapping on the mount.
    pub(crate) fn lost(&mut self) -> Lost {
        if let Some((uid, gid)) = self.owner() {
            return Lost { owner: uid.is_none(), group: gid.is_none() };
        }
        if self.is_mapped() {
            return Lost { owner: false, group: false };
        }
        let ids = &self.view.mount(self.place.mount).facts.ids;
        let mut ways = vec![(true, false), (false, true), (true, true)];
        ways.retain(|(owner, group)| !(*owner && ids.uids.is_identity() || *group && ids.gids.is_identity()));
        let path = self.text();
        let unknown = self.unknown(Which::Owner);
        let chosen = self.w.choose(MissingFact::Lost(self.subject()), &unknown, ways.len(), |option| {
            let what = match ways[option] {
                (true, false) => "the owner alone",
                (false, true) => "the group alone",
                (_, _) => "both owner and group",
            };
            format!("{what} of {path} has no mapping on its mount")
        });
        let (owner, group) = ways[chosen];
        Lost { owner, group }
    }

    /// Whether `capability` counts for it: both ids have to be mapped in the actor's user namespace
    /// (`capable_wrt_inode_uidgid`).
    pub(crate) fn is_under(&mut self, acting: &FsCredentials<'_>, capability: Capability) -> bool {
        if let Some((uid, gid)) = self.owner() {
            return acting.capable_for(capability, uid, gid);
        }
        acting.has(capability)
            && self.is_mapped()
            && (acting.maps_all() && self.is_native() || self.is_inside())
    }

    /// Whether `capability` counts for it, whoever owns it.
    pub(crate) fn is_surely_under(&mut self, acting: &FsCredentials<'_>, capability: Capability) -> bool {
        if let Some((uid, gid)) = self.owner() {
            return acting.capable_for(capability, uid, gid);
        }
        acting.has(capability) && acting.maps_all() && self.is_surely_mapped() && self.is_native()
    }

    /// Whether `acting` owns it or counts as its owner, for which FOWNER needs the owner alone mapped
    /// (`inode_owner_or_capable`).
    pub(crate) fn is_owned(&mut self, acting: &FsCredentials<'_>) -> bool {
        if let Some((uid, _)) = self.owner() {
            return acting.owns(uid);
        }
        if self.is_surely_owned(acting) {
            return true;
        }
        self.is_of(acting.uid) || acting.has(Capability::Fowner) && self.is_mapped() && self.is_inside()
    }

    /// Whether `acting` counts as the owner, whoever owns it.
    pub(crate) fn is_surely_owned(&mut self, acting: &FsCredentials<'_>) -> bool {
        if let Some((uid, _)) = self.owner() {
            return acting.owns(uid);
        }
        let ids = &self.view.mount(self.place.mount).facts.ids;
        acting.has(Capability::Fowner) && acting.maps_all() && ids.uids.is_identity() && self.is_native()
    }

    /// Whether all of `bits` are set; `words` say so.
    pub(crate) fn has(&mut self, bits: Mode, words: &str) -> bool {
        if let Some(mode) = self.mode() {
            return mode.has(bits);
        }
        let path = self.text();
        let unknown = self.unknown(Which::Mode);
        let question = MissingFact::Bits(self.subject(), bits);
        let describe = |option| format!("{path} {} {words}", if option == 0 { "is not" } else { "is" });
        let usual = || {
            let (usual, _, mode) = usual_place::attributes(self.view, self.place, self.path, &unknown)?;
            Some((usual, usize::from(mode.has(bits))))
        };
        let chosen = self.w.choose_usually(question, &unknown, 2, (usual, describe));
        chosen == 1
    }

    /// Whether the filesystem is certain to let the local kernel decide.
    pub(crate) fn is_native(&mut self) -> bool {
        self.view.is_native(self.place, self.w)
    }

    /// Whether both ids are mapped in the actor's user namespace, where that does not map all.
    fn is_inside(&mut self) -> bool {
        let path = self.text();
        let describe = |yes| {
            let are = if yes { "are" } else { "are not" };
            format!("owner and group of {path} {are} mapped in the user namespace")
        };
        let namespace = &self.view.who.namespace;
        let answer = |(owner, group): Owner| {
            Some(namespace.to_inside_uid(owner?).is_some() && namespace.to_inside_gid(group?).is_some())
        };
        self.ask_owner_usually(MissingFact::Inside(self.subject()), (answer, describe))
    }

    pub(crate) fn ask_owner(&mut self, question: MissingFact, describe: impl Fn(bool) -> String) -> bool {
        self.ask_owner_usually(question, (|_| None, describe))
    }

    /// The same, with what the answer is for the owner that is usual.
    fn ask_owner_usually(
        &mut self,
        question: MissingFact,
        (answer, describe): (impl Fn(Owner) -> Option<bool>, impl Fn(bool) -> String),
    ) -> bool {
        let unknown = self.unknown(Which::Owner);
        let usual = || {
            let (usual, owner, _) = usual_place::attributes(self.view, self.place, self.path, &unknown)?;
            Some((usual, usize::from(!answer(owner)?)))
        };
        self.w.choose_usually(question, &unknown, 2, (usual, |option| describe(option == 0))) == 0
    }

    fn note<T>(&mut self, attribute: Attribute<'_, T>) -> Option<T> {
        match attribute {
            Attribute::Known(value) => Some(value),
            Attribute::Assumed(value, text) => {
                self.w.assume(|| text.clone());
                Some(value)
            }
            Attribute::Unknown(_) => None,
        }
    }

    /// What is not known of owner or mode.
    fn unknown(&self, which: Which) -> Unknown {
        let doubt = self.view.doubt(self.place);
        let certainty = doubt.map(|doubt| match which {
            Which::Owner => &doubt.owner,
            Which::Mode => &doubt.mode,
        });
        certainty.and_then(|one| one.unknown()).cloned().unwrap_or_else(|| self.view.unlisted(self.place))
    }

    fn subject(&self) -> Subject {
        subject(self.place, self.path)
    }

    fn text(&self) -> String {
        text(self.path)
    }
}

/// What has no mapping on a mount.
#[derive(Clone, Copy)]
pub(crate) struct Lost {
    /// The owner.
    pub owner: bool,
    /// The group.
    pub group: bool,
}

#[derive(Clone, Copy)]
enum Which {
    Owner,
    Mode,
}

/// What questions about the inode at `place` are about; one that is only presumed goes by its path.
pub(crate) fn subject(place: Place, path: &[u8]) -> Subject {
    match place.inode {
        Some(id) => Subject::Inode(place.source, id),
        None => Subject::Path(path.to_vec()),
    }
}

fn text(path: &[u8]) -> String {
    String::from_utf8_lossy(if path.is_empty() { b"/" } else { path }).into_owned()
}
