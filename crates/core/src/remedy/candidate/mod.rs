//! What could be changed about the check that stops an act.

mod absent;
mod flags;
mod labels;
mod leaving;
mod made;
mod narrow;
mod own;
mod start;
mod volumes;

use mivask_model::acl::{Acl, AclText};
use mivask_model::act::{Act, Subject, Verb};
use mivask_model::caps::Capability;
use mivask_model::ids::{InsideGid, InsideUid, UserNamespace};
use mivask_model::mode::Who;
use mivask_model::mode::{Access, FileKind, ModeChange};
use mivask_model::mount::{Mount, MountOrigin};
use mivask_model::path::parent;
use mivask_model::personality::Personality;
use mivask_model::tree::{Inode, Tree};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::settle::Outcome;
use mivask_rules::trace::{Check, Step};
use mivask_rules::view::Place;
use mivask_rules::walk::Follow;
use mivask_stage::prepare::HOST;
use mivask_stage::scene::Scene;
use mivask_stage::stage::{Actor, Role, Stage};

use super::Side;
use super::wish::Wish;
use crate::change::{Accounts, Change, Process};
use crate::question::Answer;

/// Changes that are made together, in one place.
pub(super) struct Candidate {
    pub changes: Vec<Change>,
    pub side: Side,
}

/// The inode that stops an act, as its actor sees it.
struct Met<'a> {
    stage: &'a Stage,
    actor: &'a Actor,
    /// The name to write in changes.
    name: &'a str,
    place: Place,
    mount: &'a Mount,
    inode: &'a Inode,
    tree: &'a Tree,
    path: Vec<u8>,
    /// Owner and group inside; `None` where they have no mapping.
    uid: Option<u32>,
    gid: Option<u32>,
}

/// What may let the act get past the check that stops it.
pub(super) fn candidates(scene: &Scene, stage: &Stage, wish: &Wish<'_>, answer: &Answer) -> Vec<Candidate> {
    let act = &wish.act;
    let Ok(actor) = stage.actor(&act.actor) else { return Vec::new() };
    if let Some(limit) = wish.limit {
        return narrow::candidates(scene, stage, (actor, &Subject::named(&act.actor).actor), limit);
    }
    match answer.outcome {
        Outcome::Allowed => leaving::candidates(stage, actor, act, answer),
        Outcome::NeverRuns(_) => start::candidates(scene, actor),
        // Several things may be in the way, and a read-only root is whatever the image has.
        Outcome::Denied(None) => absent::below_read_only_root(actor, &Subject::named(&act.actor).actor, act),
        Outcome::Depends => {
            let place = Subject::named(&act.actor).actor;
            let met = Met::nearest(stage, actor, &place, &act.path);
            met.as_ref().map(Met::for_all).unwrap_or_default()
        }
        Outcome::Denied(Some(_)) => {
            answer.deciding().map(|step| past(scene, stage, (actor, wish), step)).unwrap_or_default()
        }
    }
}

/// What may let the act get past the check of `step`.
fn past(scene: &Scene, stage: &Stage, (actor, wish): (&Actor, &Wish<'_>), step: &Step) -> Vec<Candidate> {
    let act = &wish.act;
    // Changes are made in the place of a guest by the name of whoever the place is.
    let place = Subject::named(&act.actor).actor;
    let met = Met::nearest(stage, actor, &place, &step.path);
    // These two need nothing of the inode, which may not exist.
    if step.check == Check::Lookup {
        return absent::candidates(stage, actor, act, step);
    }
    if step.check == Check::Capability {
        return capability(&place, Capability::Mknod);
    }
    let Some(met) = met else { return Vec::new() };
    if let (Some(bits), Some(made)) = (step.bits, wish.made)
        && step.path == act.path
    {
        return made::candidates(scene, stage, made, &met, bits.needed);
    }
    if step.bits.is_some() {
        return met.bits(scene, step, &act.path);
    }
    match step.check {
        Check::ReadOnlyMount => met.writable(stage, act),
        Check::NoExec => met.remounted("exec"),
        Check::NoDev => met.remounted("dev"),
        Check::Label => met.labelled(wish.made),
        Check::Sticky | Check::Owner => met.ownership(Capability::Fowner),
        Check::ProtectedFile | Check::ProtectedHardlink => met.given(),
        Check::GivingAway => met.giving(act),
        // Dealt with above.
        Check::Lookup | Check::Capability => Vec::new(),
        // No change of a description or of owners and modes gets past these.
        Check::Link
        | Check::ProtectedSymlink
        | Check::MountPoint
        | Check::Kind
        | Check::ReadOnlyFilesystem
        | Check::DeviceList
        | Check::Immutable
        | Check::AppendOnly
        | Check::Unmapped
        | Check::OwnerBits
        | Check::AclUser
        | Check::AclGroup
        | Check::GroupBits
        | Check::OtherBits
        | Check::UnmappedOwner
        | Check::Profile
        | Check::OneMount
        | Check::Feature
        | Check::Server
        | Check::Fuse
        | Check::Empty
        | Check::Format
        | Check::FileCapabilities
        | Check::SetId
        | Check::Imprint
        | Check::Unknown => Vec::new(),
    }
}

/// The ACL entry for the actor where the act is stopped; its own u bits where that is its own.
pub(super) fn entry(stage: &Stage, wish: &Wish<'_>, answer: &Answer) -> Option<Candidate> {
    let act = &wish.act;
    let actor = stage.actor(&act.actor).ok()?;
    let step = answer.deciding()?;
    let needed = step.bits?.needed;
    let place = Subject::named(&act.actor).actor;
    let met = Met::nearest(stage, actor, &place, &step.path)?;
    if met.side() != Side::Disk || met.mount.is_written_by_kubelet() {
        return None;
    }
    if met.is_mine() {
        return met.modes(needed).pop();
    }
    let acl = met.tree.acl(met.place.inode?);
    met.with_entry(acl, needed).map(|acl| met.file(vec![Verb::SetsAcl(acl)]))
}

fn process(name: &str, what: Process) -> Candidate {
    Candidate { changes: vec![Change::Process(name.to_owned(), what)], side: Side::Process }
}

fn capability(name: &str, capability: Capability) -> Vec<Candidate> {
    vec![process(name, Process::Adds(vec![capability.name().to_owned()]))]
}

impl<'a> Met<'a> {
    fn at(stage: &'a Stage, actor: &'a Actor, name: &'a str, path: &[u8]) -> Option<Self> {
        Self::found(stage, actor, name, path, Follow::AllButLast)
    }

    fn found(stage: &'a Stage, actor: &'a Actor, name: &'a str, path: &[u8], follow: Follow) -> Option<Self> {
        let Ok(Sight::There(place)) = look(&stage.storage, &actor.mounts, path, follow) else {
            return None;
        };
        let mount = actor.mounts.get(place.mount);
        let tree = &*stage.source(place.source).tree;
        let inode = tree.inode(place.inode?);
        let namespace = &actor.credentials.first()?.namespace;
        let owner = tree.owner(place.inode?).value();
        let uid = owner.and_then(|owner| namespace.to_inside_uid(mount.facts.ids.to_kernel_uid(owner.uid)?));
        let gid = owner.and_then(|owner| namespace.to_inside_gid(mount.facts.ids.to_kernel_gid(owner.gid)?));
        let (uid, gid) = (uid.map(InsideUid::raw), gid.map(InsideGid::raw));
        Some(Self { stage, actor, name, place, mount, inode, tree, path: path.to_vec(), uid, gid })
    }

    /// What is at `path`, or the directory that a missing entry would be in.
    fn nearest(stage: &'a Stage, actor: &'a Actor, name: &'a str, path: &[u8]) -> Option<Self> {
        Self::at(stage, actor, name, path).or_else(|| Self::at(stage, actor, name, parent(path)))
    }

    fn namespace(&self) -> &UserNamespace {
        &self.actor.credentials[0].namespace
    }

    /// Where the inode is changed.
    fn side(&self) -> Side {
        let image = self.mount.origin == MountOrigin::Root && self.actor.role != Role::Person;
        if image { Side::Image } else { Side::Disk }
    }

    /// A membership of the account of somebody on the host.
    fn membership(&self, scene: &Scene, gid: u32) -> Option<Candidate> {
        let user = self.actor.identity.name.clone().filter(|_| *self.actor.workload == *HOST)?;
        let lines = scene.host.accounts.as_ref()?.group.as_ref()?;
        let group = lines.iter().find(|line| line.gid == gid)?.name.clone();
        let what = Accounts::Joins(user, group);
        Some(Candidate { changes: vec![Change::Accounts(HOST.to_owned(), what)], side: Side::Process })
    }

    fn file(&self, verbs: Vec<Verb>) -> Candidate {
        let side = self.side();
        let change = |verb| {
            if side == Side::Image { Change::Image(self.act(verb)) } else { Change::Files(self.act(verb)) }
        };
        Candidate { changes: verbs.into_iter().map(change).collect(), side }
    }

    fn act(&self, verb: Verb) -> Act {
        Act { actor: self.name.to_owned(), verb, path: self.path.clone(), expectation: None }
    }

    /// Whether a mount option says whose everything on the file system is.
    fn keeps_no_owners(&self) -> bool {
        let personality = &self.stage.source(self.place.source).facts.personality;
        matches!(personality, Personality::Fat(_) | Personality::Ntfs(_) | Personality::Cifs(_))
    }

    /// Bits or an ACL refuse.
    fn bits(&self, scene: &Scene, step: &Step, target: &[u8]) -> Vec<Candidate> {
        let needed = step.bits.map_or(Access::READ, |bits| bits.needed);
        let mode = self.inode.stored_mode();
        let mut all: Vec<Candidate> = self.kept_id(mode, needed).into_iter().collect();
        let acl = self.tree.acl(self.place.inode.unwrap_or(Tree::ROOT));
        // Who the process is.
        if let Some(gid) = self.gid.filter(|gid| !self.in_group(*gid) && mode.group().grants(needed)) {
            // Only a group that already gives enough: joining one and opening it too is what `modes` proposes.
            all.push(self.membership(scene, gid).unwrap_or_else(|| process(self.name, Process::Joins(gid))));
            all.extend(self.own_uid().map(|own| process(self.name, Process::Becomes(own, Some(gid)))));
        }
        let named = acl.into_iter().flat_map(|acl| acl.groups.iter());
        for (gid, _) in named.filter(|(_, access)| access.grants(needed)) {
            let inside =
                self.mount.facts.ids.to_kernel_gid(*gid).and_then(|gid| self.namespace().to_inside_gid(gid));
            all.extend(inside.map(|gid| process(self.name, Process::Joins(gid.raw()))));
        }
        // Where a mount option says whose everything is, nobody has to be root for it.
        if let Some(uid) = self.uid.filter(|uid| *uid != 0 || !self.keeps_no_owners())
            && !self.is_mine()
            && mode.owner().grants(needed)
        {
            all.push(process(self.name, Process::Becomes(uid, None)));
        }
        // A part that is mounted alone has the options of its volume.
        if self.keeps_no_owners()
            && self.mount.root.is_none_or(|root| root == Tree::ROOT)
            && let Some(own) = self.own_uid()
        {
            all.extend(self.remounted(&format!("uid={own}")));
        }
        all.extend(self.of_other_ids());
        all.extend(self.filesystem_group(scene));
        all.extend(self.parts_alone(needed, target));
        // What is on the disk; what the kubelet writes itself is not changed there.
        if self.mount.is_written_by_kubelet() {
            return all;
        }
        all.extend(self.modes(needed));
        all.extend(self.filled(scene));
        // Builders lose an ACL (docs/facts/runtimes.md section 9).
        if !self.is_mine() && self.side() == Side::Disk {
            all.extend(self.with_entry(acl, needed).map(|acl| self.file(vec![Verb::SetsAcl(acl)])));
        }
        if self.keeps_no_owners() {
            return all;
        }
        // DAC_READ_SEARCH reads files and searches directories; writing, and running a file without an x bit, take
        // the wider one.
        let opening = if needed.writes() || self.inode.kind == FileKind::File && needed != Access::READ {
            Capability::DacOverride
        } else {
            Capability::DacReadSearch
        };
        all.extend(capability(self.name, opening));
        all
    }

    /// Modes that let the class the actor is in, or another owner or group that it is.
    fn modes(&self, needed: Access) -> Vec<Candidate> {
        let mode = self.inode.stored_mode();
        let mut all = Vec::new();
        let change = |who: Who, access: Access| ModeChange::adding(who, access).map(Verb::SetsMode);
        let missing = |held: Access| Access::new(u16::from(needed.bits() & !held.bits()));
        if self.is_mine() {
            all.extend(change(Who::Owner, missing(mode.owner())).map(|verb| self.file(vec![verb])));
            return all;
        }
        let grouped = |gid: Option<u32>| {
            let mut verbs: Vec<Verb> = gid.map(Verb::SetsGroup).into_iter().collect();
            if !mode.group().grants(needed) {
                verbs.extend(change(Who::Group, missing(mode.group())));
            }
            // A change of the group takes set-group-id from files alone.
            verbs
        };
        if self.gid.is_some_and(|gid| self.in_group(gid)) {
            all.push(self.file(grouped(None)));
        } else if let Some(gid) = self.own_groups().first() {
            all.push(self.file(grouped(Some(*gid))));
        }
        let Some(given) = self.to_own() else { return all };
        let mut verbs = vec![given];
        if !mode.owner().grants(needed) {
            verbs.extend(change(Who::Owner, missing(mode.owner())));
        }
        all.push(self.file(verbs));
        all
    }

    /// An ACL with the ids that the actor sees.
    fn seen(&self, acl: &Acl) -> Option<AclText> {
        let namespace = self.namespace();
        AclText::of(&acl.seen(
            |uid| Some(namespace.to_inside_uid(self.mount.facts.ids.to_kernel_uid(uid)?)?.raw()),
            |gid| Some(namespace.to_inside_gid(self.mount.facts.ids.to_kernel_gid(gid)?)?.raw()),
        ))
    }

    /// The ACL with an entry for the actor's user.
    fn with_entry(&self, acl: Option<&Acl>, needed: Access) -> Option<AclText> {
        let own = self.own_uid()?;
        let mut text = acl.and_then(|acl| self.seen(acl)).unwrap_or_default();
        // The entry takes the place of the class that decided before, so what that gave is kept. Nothing in a directory
        // is reached without x.
        let mode = self.inode.stored_mode();
        let held = if self.gid.is_some_and(|gid| self.in_group(gid)) { mode.group() } else { mode.other() };
        let directory = self.inode.kind == FileKind::Directory;
        let extra = if directory { Access::EXECUTE } else { Access::NONE };
        let access = Access::new(u16::from(needed.bits() | extra.bits() | held.bits()));
        text.give(own, access, self.inode.stored_mode());
        Some(text)
    }

    /// Only the owner may.
    fn ownership(&self, capability_too: Capability) -> Vec<Candidate> {
        let mut all = self.given();
        if let Some(uid) = self.uid
            && !self.is_mine()
        {
            all.push(process(self.name, Process::Becomes(uid, None)));
        }
        all.extend(capability(self.name, capability_too));
        all
    }

    /// The inode becomes the actor's.
    fn given(&self) -> Vec<Candidate> {
        self.to_own().map(|verb| self.file(vec![verb])).into_iter().collect()
    }

    /// Giving a file away.
    fn giving(&self, act: &Act) -> Vec<Candidate> {
        let mut all = Vec::new();
        let group = if let Verb::SetsGroup(gid) | Verb::SetsLinkGroup(gid) = &act.verb {
            Some(*gid)
        } else if let Verb::SetsOwner(owner) | Verb::SetsLinkOwner(owner) = &act.verb
            && owner.uid.is_none_or(|uid| Some(uid) == self.uid)
        {
            owner.gid
        } else {
            None
        };
        if let Some(gid) = group {
            if !self.in_group(gid) {
                all.push(process(self.name, Process::Joins(gid)));
            }
            if !self.is_mine() {
                all.extend(self.given());
            }
        }
        all.extend(capability(self.name, Capability::Chown));
        all
    }
}
