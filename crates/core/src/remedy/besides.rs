//! What to do about an act without changing the scene, or where no change of the scene reaches: said before the remedies.

use mivask_model::act::{Act, Verb, quoted};
use mivask_model::held::Held;
use mivask_model::ids::{InsideGid, InsideUid, KernelUid};
use mivask_model::mode::FileKind;
use mivask_model::path::parent;
use mivask_model::personality::{Personality, Squash};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::settle::Outcome;
use mivask_rules::trace::{Check, Step};
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

use super::made::Made;
use super::wish::Wish;
use crate::handoff::path_of_same;
use crate::question::Answer;
use crate::question::joined::Joined;

/// A sentence about the cause, where it is none that a patch or a chmod mends.
pub(super) fn besides(stage: &Stage, wish: &Wish<'_>, answer: &Answer) -> Option<String> {
    if let Some(made) = wish.made {
        return leaves(stage, made, &wish.act);
    }
    if wish.limit.is_some() {
        return None;
    }
    let act = &wish.act;
    let step = answer.deciding()?;
    let actor = stage.actor(&act.actor).ok()?;
    let path = quoted(&step.path);
    if step.check == Check::NoExec {
        return Some(format!(
            "noexec keeps the kernel from running the file itself, not from reading it: if {path} is a script, run it by its interpreter (`sh {path}`); a program can be copied to a mount without noexec"
        ));
    }
    if step.check == Check::ProtectedFile {
        return Some(format!(
            "fs.protected_regular and fs.protected_fifos stop O_CREAT alone: a program that opens {path} without it is not refused"
        ));
    }
    if !step.check.is_permission() {
        return None;
    }
    of_file_system(stage, actor, step).or_else(|| next_file(stage, (actor, act), step))
}

/// What the maker's next file is.
fn leaves(stage: &Stage, made: &Made, act: &Act) -> Option<String> {
    let (_, answer) = made.after(stage, act).ok()?;
    let left = answer.effect.imprint?;
    let umask = stage.actor(made.maker()).ok()?.credentials.first()?.umask;
    let id = |id: Option<u32>| id.map_or_else(|| "?".to_owned(), |id| id.to_string());
    let (uid, gid) = (id(left.uid.map(InsideUid::raw)), id(left.gid.map(InsideGid::raw)));
    let mode = left.mode?;
    Some(format!("the next file of {} is {uid}:{gid} {mode} there, with its umask {umask}", made.maker()))
}

/// Whose file it is, where another actor makes such files there: a change of this one says nothing of the next.
fn next_file(stage: &Stage, (actor, act): (&Actor, &Act), step: &Step) -> Option<String> {
    step.bits.filter(|_| matches!(act.verb, Verb::Reads | Verb::Writes | Verb::Appends))?;
    let Ok(Sight::There(place)) = look(&stage.storage, &actor.mounts, &step.path, Follow::AllButLast) else {
        return None;
    };
    let tree = &stage.source(place.source).tree;
    let owner = tree.owner(place.inode?).value()?;
    let uid = actor.mounts.get(place.mount).facts.ids.to_kernel_uid(owner.uid)?;
    let is_file = tree.inode(place.inode?).kind == FileKind::File;
    let makes = |other: &&Actor| {
        other.name != actor.name && other.credentials.first().is_some_and(|who| who.fsuid.is(uid))
    };
    let maker = stage.actors.iter().filter(|_| is_file).find(makes)?;
    let joined = Joined::new(stage);
    let directory = path_of_same(&joined, (&actor.name, parent(&step.path)), &maker.name)?;
    let made = Made::new(&act.actor, &act.verb, &maker.name, directory);
    let next = made.act(&joined).ok()?;
    // It may have a umask by now that lets the next file be used.
    let answer = made.ask(stage, &next).ok().filter(|answer| answer.outcome != Outcome::Allowed)?;
    (answer.outcome.errno().is_some()).then(|| {
        format!(
            "it is a file of {}, whose next one is refused as well: what lasts is found for '{}'",
            maker.name,
            made.sentence()
        )
    })
}

/// What the file system at the step makes of owners, where that is the cause.
fn of_file_system(stage: &Stage, actor: &Actor, step: &Step) -> Option<String> {
    let found = [step.path.as_slice(), parent(&step.path)].into_iter().find_map(|path| {
        match look(&stage.storage, &actor.mounts, path, Follow::AllButLast) {
            Ok(Sight::There(place)) => Some(place),
            Ok(Sight::Missing | Sight::Unlisted) | Err(_) => None,
        }
    })?;
    let source = stage.source(found.source);
    let who = actor.credentials.first()?;
    match &source.facts.personality {
        Personality::Nfs(nfs) => {
            let anonymous = nfs.export.anonymous;
            let instead = match nfs.export.squash? {
                Squash::Root if who.fsuid == Held::Id(KernelUid::new(0)) => {
                    ", or run as a user that it does not squash"
                }
                // Whoever asks is the same there.
                Squash::All => "",
                Squash::Root | Squash::Nobody => return None,
            };
            Some(format!(
                "the server of {} squashes it to {anonymous}: change owners and modes on the server itself{instead}; no capability and no init container that runs as root helps",
                source.facts.name
            ))
        }
        Personality::Fat(_) | Personality::Ntfs(_) | Personality::Cifs(_) => {
            let uid = who.inside_uid().and_then(Held::id).map(InsideUid::raw);
            let uid = uid.map_or_else(|| "ID".to_owned(), |uid| uid.to_string());
            Some(format!(
                "what {} has no owner for is shown with that of the mount options: whoever mounts {} can say uid={uid}, gid= or umask=",
                source.facts.filesystem.as_deref().unwrap_or("the file system"),
                source.facts.name
            ))
        }
        Personality::Native(_)
        | Personality::Tmpfs(_)
        | Personality::Overlay
        | Personality::Image
        | Personality::Fuse(_)
        | Personality::Remote(_)
        | Personality::Kernel(_) => None,
    }
}
