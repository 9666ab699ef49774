//! The next file of another actor: what it gets by its maker's umask, its directory's group and default ACL.

use mivask_model::acl::AclText;
use mivask_model::act::Verb;
use mivask_model::mode::{Access, Mode, ModeChange};
use mivask_stage::scene::Scene;
use mivask_stage::stage::Stage;

use super::{Candidate, Met, process};
use crate::change::Process;
use crate::remedy::Side;
use crate::remedy::made::Made;

/// What opens such a file when it is made; nothing that changes the one that is there lasts.
pub(super) fn candidates(
    scene: &Scene,
    stage: &Stage,
    made: &Made,
    met: &Met<'_>,
    needed: Access,
) -> Vec<Candidate> {
    let mode = met.inode.stored_mode();
    let mut all = Vec::new();
    let grouped = met.gid.is_some_and(|gid| met.in_group(gid));
    let Ok(maker) = stage.actor(made.maker()) else { return all };
    let umask = maker.credentials.first().map(|who| who.umask).unwrap_or_default();
    let whole = whole(needed);
    let lets = |shift: u16| Mode::new(umask.bits() & !(u16::from(whole.bits()) << shift));
    if grouped && !mode.group().grants(needed) {
        all.push(process(&maker.name, Process::Umask(lets(3))));
    }
    if let Some(gid) = met.gid.filter(|gid| !grouped && *gid != 0) {
        all.push(process(met.name, Process::Joins(gid)));
    }
    if let Some(directory) = Met::at(stage, maker, &maker.name, made.directory()) {
        all.extend(default_entry(&directory, met, needed, umask));
        if !grouped {
            all.extend(common_group(&directory, met));
        }
    }
    if let Some(uid) = met.uid.filter(|_| !met.is_mine()) {
        all.push(process(met.name, Process::Becomes(uid, None)));
    }
    all.extend(met.filesystem_group(scene));
    // To be read by everybody is what a umask of 0022 means; to be written by everybody is never proposed.
    if !grouped && needed == Access::READ {
        all.push(process(&maker.name, Process::Umask(lets(0).masked(lets(3)))));
    }
    all
}

/// What is given along with `needed`: subdirectories are to be entered, and what is written is read as well.
const fn whole(needed: Access) -> Access {
    Access::new((needed.bits() | Access::READ.bits() | Access::EXECUTE.bits()) as u16)
}

/// A default ACL of the directory with an entry for the reader. The kernel takes no umask into account below one, so what
/// the umask kept from group and others is kept from them by the ACL.
fn default_entry(directory: &Met<'_>, reader: &Met<'_>, needed: Access, umask: Mode) -> Option<Candidate> {
    let own = reader.own_uid()?;
    let tree = directory.tree;
    let id = directory.place.inode?;
    let entry = whole(needed);
    let text = match tree.default_acl(id) {
        Some(acl) => {
            let mut text = directory.seen(acl)?;
            text.give(own, entry, directory.inode.stored_mode());
            text
        }
        None => {
            let mode = directory.inode.stored_mode().without(umask);
            let (group, other) = (mode.group(), mode.other());
            let mask = Access::new(u16::from(group.bits() | entry.bits()));
            AclText::parse(&format!(
                "user::rwx,user:{own}:{entry},group::{group},mask::{mask},other::{other}"
            ))
            .ok()?
        }
    };
    Some(directory.file(vec![Verb::SetsDefaultAcl(text)]))
}

/// A directory whose files have the reader's group: a group that it is in, handed down by set-group-ID.
fn common_group(directory: &Met<'_>, reader: &Met<'_>) -> Option<Candidate> {
    let gid = *reader.own_groups().first()?;
    let mut verbs = Vec::new();
    if directory.gid != Some(gid) {
        verbs.push(Verb::SetsGroup(gid));
    }
    if !directory.inode.stored_mode().has(Mode::SET_GROUP_ID) {
        verbs.push(Verb::SetsMode("g+s".parse::<ModeChange>().ok()?));
    }
    let candidate = directory.file(verbs);
    (candidate.side == Side::Disk && !candidate.changes.is_empty()).then_some(candidate)
}
