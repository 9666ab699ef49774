//! What speaks against a change before anything is measured: its kind, and where it is made.

use mivask_model::acl::AclText;
use mivask_model::act::{Act, Owner, Verb};
use mivask_model::ids::{InsideGid, InsideUid};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::MountOrigin;
use mivask_model::path::parent;
use mivask_model::tree::{Certainty, Tree};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Role, Stage};

use super::rank::Mark;
use super::{RemedyStep, Side};
use crate::change::{Change, Process, Security};
use crate::question::facts_at;
use crate::recursion::whole;

/// The marks of all `steps`, which are made on `base`.
pub(super) fn of_steps(base: &Stage, steps: &[RemedyStep], acts: &[Act]) -> Vec<Mark> {
    let built = acts.iter().any(|act| is_in_image(base, act));
    let only_reads = acts.iter().all(|act| reads(&act.verb));
    let mut marks = Vec::new();
    for (at, step) in steps.iter().enumerate() {
        for mark in of_change(base, step, &steps[..at]) {
            // One build, and one volume to wait for, whatever is changed in it.
            let again = marks.contains(&mark);
            if again && matches!(mark, Mark::Build | Mark::NotThereYet) {
                continue;
            }
            marks.push(if only_reads && matches!(mark, Mark::Owner | Mark::OwnerOfDirectory) {
                Mark::OwnerToRead
            } else if built && mark == Mark::AnotherUser {
                Mark::AnotherUserThanBuilt
            } else if again && mark == Mark::Entry {
                Mark::FurtherEntry
            } else {
                mark
            });
        }
    }
    marks
}

/// Whether it changes nothing.
const fn reads(verb: &Verb) -> bool {
    matches!(verb, Verb::Reads | Verb::Lists | Verb::Enters | Verb::Runs | Verb::MayRead | Verb::MayRun)
}

fn of_change(base: &Stage, step: &RemedyStep, earlier: &[RemedyStep]) -> Vec<Mark> {
    let side = step.side;
    match &step.change {
        Change::Process(name, what) => of_process(base, name, what),
        Change::Files(act) | Change::Image(act) => {
            let mut marks = of_file(base, (act, side), earlier);
            marks.extend((side == Side::Image).then_some(Mark::Build));
            marks.extend((side == Side::Disk && is_not_there_yet(base, act)).then_some(Mark::NotThereYet));
            marks
        }
        Change::FilesystemGroup(_) | Change::Joins(_) => vec![Mark::OfEveryPod],
        Change::Accounts(..) => vec![Mark::Account],
        Change::Security(Security::Boolean(..)) => vec![Mark::Boolean],
        Change::Security(Security::Labels(..)) => vec![Mark::Relabels],
    }
}

fn of_process(base: &Stage, name: &str, what: &Process) -> Vec<Mark> {
    let mark = match what {
        Process::Joins(0) => Mark::RootsGroup,
        Process::Joins(_) => Mark::Joins,
        Process::Umask(umask) if opens_to_others(base, name, *umask) => Mark::EveryLaterFile,
        Process::Umask(_) => Mark::Umask,
        Process::UserNamespace(_) => Mark::OtherIds,
        Process::Level(_) => Mark::SharedLevel,
        Process::Scratch(_) => Mark::Scratch,
        Process::FilesystemGroup(_) => Mark::GroupStep,
        Process::Only(part) if is_file(base, name, part) => Mark::OnlyFile,
        Process::Only(_) => Mark::OnlyPart,
        Process::Mounts(at, _) if at.as_slice() == b"/" => Mark::WritableRoot,
        Process::Mounts(_, options) if options.iter().any(|option| option == "U") => Mark::TakesOver,
        Process::Mounts(_, options) if options.iter().any(|option| option == "z" || option == "Z") => {
            Mark::Relabels
        }
        Process::Mounts(_, options)
            if options.iter().any(|option| option == "idmap") && is_root(base, name) =>
        {
            Mark::Root
        }
        Process::Mounts(..) => Mark::MountOption,
        Process::Becomes(0, _) if is_starter(base, name) => Mark::StartersRoot,
        Process::Becomes(0, _) => Mark::Root,
        Process::Becomes(uid, gid) => {
            let user = if is_anothers(base, name, *uid) { Mark::OneUserForTwo } else { Mark::AnotherUser };
            return [Some(user), gid.map(|_| Mark::AnotherGroup)].into_iter().flatten().collect();
        }
        Process::Adds(names) if names.iter().any(|name| name == "DAC_OVERRIDE") => Mark::Override,
        Process::Adds(_) => Mark::Capability,
        Process::Drops(_) | Process::StartsAgain | Process::IsMadeAgain => return Vec::new(),
    };
    vec![mark]
}

/// Whether an actor is root inside: what a mount shows it with the ids of the disk is then the host's root's.
fn is_root(base: &Stage, name: &str) -> bool {
    let who = base.actor(name).ok().and_then(|actor| actor.credentials.first());
    who.and_then(|who| who.inside_uid()).is_some_and(|uid| uid.is(InsideUid::new(0)))
}

/// Whether root in the user namespace of an actor is who starts its engine.
fn is_starter(base: &Stage, name: &str) -> bool {
    let Ok(actor) = base.actor(name) else { return false };
    let root = actor.credentials.first().and_then(|who| who.namespace.to_kernel_uid(InsideUid::new(0)));
    actor.starter.as_ref().zip(root).is_some_and(|(starter, root)| root.raw() == starter.uid)
}

fn of_file(base: &Stage, (act, side): (&Act, Side), earlier: &[RemedyStep]) -> Vec<Mark> {
    // Of a whole tree, its top stands for the rest.
    let path = whole(&act.path).unwrap_or(&act.path);
    let facts = base.actor(&act.actor).ok().and_then(|actor| facts_at(base, actor, path));
    let directory = facts.is_some_and(|facts| facts.kind == FileKind::Directory);
    let owner = facts.and_then(|facts| facts.uid).map(InsideUid::raw);
    let group = facts.and_then(|facts| facts.gid).map(InsideGid::raw);
    // Whoever has it now loses it; root does not mind, and who is in an image is known and counted.
    let taken =
        |id: Option<u32>, mark: Mark| (side == Side::Disk && id.is_some_and(|id| id != 0)).then_some(mark);
    match &act.verb {
        Verb::SetsMode(change) => {
            let kind = if directory && change.ends_with_execute() { Mark::ForgottenX } else { Mark::Bits };
            let of_root = group == Some(0) && change.begins_with_the_group() && !is_regrouped(act, earlier);
            [Some(kind), of_root.then_some(Mark::BitsOfRootsGroup)].into_iter().flatten().collect()
        }
        Verb::MakesDirectory(_) => vec![Mark::Directory],
        Verb::SetsGroup(_) | Verb::SetsLinkGroup(_) | Verb::SetsOwner(Owner { uid: None, .. }) => {
            [Some(Mark::Group), taken(group, Mark::TakenGroup)].into_iter().flatten().collect()
        }
        Verb::SetsAcl(text) if names_as_many(base, act, text) => vec![Mark::Mask],
        Verb::SetsAcl(_) | Verb::SetsDefaultAcl(_) => vec![Mark::Entry],
        Verb::SetsOwner(_) | Verb::SetsLinkOwner(_) => {
            let kind = if directory { Mark::OwnerOfDirectory } else { Mark::Owner };
            [Some(kind), taken(owner, Mark::TakenOwner)].into_iter().flatten().collect()
        }
        Verb::Inspects
        | Verb::InspectsLink
        | Verb::Reads
        | Verb::Writes
        | Verb::Appends
        | Verb::Truncates
        | Verb::Updates
        | Verb::Overwrites
        | Verb::Extends
        | Verb::Shortens
        | Verb::Runs
        | Verb::Lists
        | Verb::Enters
        | Verb::Creates(_)
        | Verb::MakesFifo(_)
        | Verb::MakesNode(..)
        | Verb::Points(_)
        | Verb::Links(_)
        | Verb::LinksTarget(_)
        | Verb::Renames(_)
        | Verb::RenamesNew(_)
        | Verb::Exchanges(_)
        | Verb::RemovesAcl
        | Verb::RemovesDefaultAcl
        | Verb::ReadsTag(_)
        | Verb::MayRead
        | Verb::MayWrite
        | Verb::MayRun
        | Verb::Deletes
        | Verb::RemovesDirectory
        | Verb::Stamps
        | Verb::Backdates
        | Verb::Tags(_) => Vec::new(),
    }
}

/// Whether an earlier change gives the file another group.
fn is_regrouped(act: &Act, earlier: &[RemedyStep]) -> bool {
    earlier.iter().any(|step| match &step.change {
        Change::Files(other) | Change::Image(other) => {
            other.path == act.path && matches!(other.verb, Verb::SetsGroup(_))
        }
        Change::Process(..)
        | Change::FilesystemGroup(_)
        | Change::Joins(_)
        | Change::Security(_)
        | Change::Accounts(..) => false,
    })
}

/// Whether the ACL that is there names as many users and groups as `text`.
fn names_as_many(base: &Stage, act: &Act, text: &AclText) -> bool {
    let Ok(actor) = base.actor(&act.actor) else { return false };
    let Ok(Sight::There(place)) = look(&base.storage, &actor.mounts, &act.path, Follow::Links) else {
        return false;
    };
    let acl = place.inode.and_then(|id| base.source(place.source).tree.acl(id));
    acl.is_some_and(|acl| acl.users.len() == text.users.len() && acl.groups.len() == text.groups.len())
}

/// Whether what an act is about is in an image.
fn is_in_image(base: &Stage, act: &Act) -> bool {
    let Ok(actor) = base.actor(&act.actor) else { return false };
    let there = |path: &[u8]| match look(&base.storage, &actor.mounts, path, Follow::Links) {
        Ok(Sight::There(place)) => Some(actor.mounts.get(place.mount).origin == MountOrigin::Root),
        Ok(Sight::Missing | Sight::Unlisted) | Err(_) => None,
    };
    actor.role != Role::Person && there(&act.path).or_else(|| there(parent(&act.path))) == Some(true)
}

/// Whether somebody else of the scene runs as that user.
fn is_anothers(base: &Stage, name: &str, uid: u32) -> bool {
    let Ok(own) = base.actor(name) else { return false };
    base.actors.iter().filter(|actor| actor.name != own.name && !actor.guest).any(|actor| {
        let user = actor.credentials.first().and_then(|who| who.inside_uid()?.id());
        user.is_some_and(|user| InsideUid::raw(user) == uid)
    })
}

/// Whether a umask takes less from others than the process's own.
fn opens_to_others(base: &Stage, name: &str, umask: Mode) -> bool {
    let was = base.actor(name).ok().and_then(|actor| actor.credentials.first()).map(|who| who.umask);
    was.is_some_and(|was| was.without(umask).has_any(Mode::new(0o007)))
}

fn is_file(base: &Stage, name: &str, path: &[u8]) -> bool {
    let facts = base.actor(name).ok().and_then(|actor| facts_at(base, actor, path));
    facts.is_some_and(|facts| facts.kind == FileKind::File)
}

/// Whether the volume is made when the container is, so that no one can change it before.
fn is_not_there_yet(base: &Stage, act: &Act) -> bool {
    let Ok(actor) = base.actor(&act.actor) else { return false };
    let Ok(Sight::There(place)) = look(&base.storage, &actor.mounts, &act.path, Follow::AllButLast) else {
        return false;
    };
    let assumed = |certainty: &Certainty| matches!(certainty, Certainty::Assumed(_));
    let tree = &base.source(place.source).tree;
    tree.doubt(Tree::ROOT)
        .is_some_and(|doubt| doubt.assumed_attribute().is_some() || assumed(&doubt.contents))
}
