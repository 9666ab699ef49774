//! Verdicts that hold for several actors, and what they rest on.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use mivask_model::credentials::Credentials;
use mivask_model::ids::MountIds;
use mivask_model::mount::MountId;
use mivask_model::personality::Personality;
use mivask_model::tree::{Content, Tree};
use mivask_rules::profile::is_near;
use mivask_stage::stage::{Actor, Stage};

use super::Verdict;
use crate::question::{Cell, Column};

/// What verdicts rest on: where their tree is in memory, and the rest in words.
pub(super) type RestsOn = (usize, String);

/// Verdicts that are known already, by what they rest on. Threads may share it: what two of them find at once is the same.
#[derive(Debug, Default)]
pub struct Known {
    all: Mutex<BTreeMap<RestsOn, Arc<[Verdict]>>>,
    /// By where they are in memory; they are held, so that no others come to be there.
    trees: Mutex<BTreeMap<usize, Held>>,
}

/// A tree, and whose ids it has.
type Held = (Arc<Tree>, Arc<Owners>);

impl Known {
    /// The verdicts that rest on this.
    pub(super) fn get(&self, key: &RestsOn) -> Option<Arc<[Verdict]>> {
        lock(&self.all).get(key).cloned()
    }

    /// Keeps verdicts about `tree`, unless a script is on it: where its interpreter is, another mount decides. Gives those that are kept.
    pub(super) fn keep(&self, key: RestsOn, tree: &Arc<Tree>, verdicts: Arc<[Verdict]>) -> Arc<[Verdict]> {
        if self.owners(tree).scripts {
            return verdicts;
        }
        lock(&self.all).entry(key).or_insert(verdicts).clone()
    }

    fn owners(&self, tree: &Arc<Tree>) -> Arc<Owners> {
        let at = Arc::as_ptr(tree).addr();
        if let Some((_, owners)) = lock(&self.trees).get(&at) {
            return owners.clone();
        }
        let owners = Arc::new(Owners::of(tree));
        lock(&self.trees).entry(at).or_insert_with(|| (tree.clone(), owners)).1.clone()
    }

    /// All that verdicts below the root of a mount rest on; `None` where something may decide that is not a matter of the mount and the
    /// process alone: a policy, a missing fact about the container, or a directory on the way.
    pub(super) fn rests_on(
        &self,
        stage: &Stage,
        actor: &Actor,
        number: MountId,
        root: Option<&Verdict>,
    ) -> Option<RestsOn> {
        let mount = actor.mounts.get(number);
        let facts = &mount.facts;
        let entered = root?.endings.of(Column::Enter).cell == Cell::Allowed;
        let alone = actor.needs.is_empty() && actor.unmodelled.is_empty() && actor.confined.is_none();
        // There an engine's AppArmor profile goes by paths; everything is below the root.
        let by_path = facts.at.len() <= 1 || is_near(&[&facts.at, &b"/"[..]].concat());
        if !entered || !alone || by_path || mount.variants.len() > 1 || facts.question.is_some() {
            return None;
        }
        let source = stage.source(mount.variants[0].source);
        let at = Arc::as_ptr(&source.tree).addr();
        let owners = self.owners(&source.tree);
        // Where ids are those of the disk, those that nothing there has are all alike.
        let plain =
            facts.ids == MountIds::default() && matches!(source.facts.personality, Personality::Native(_));
        let who: Vec<String> = actor
            .credentials
            .iter()
            .map(|one| if plain { owners.seen(one) } else { format!("{one:?}") })
            .collect();
        let of_mount = (mount.root, mount.flags, &facts.ids, &facts.kind, &facts.relabelled, &source.facts);
        Some((at, format!("{of_mount:?} {who:?} {} {:?}", actor.all_devices, stage.storage.settings)))
    }
}

fn lock<T>(shared: &Mutex<T>) -> MutexGuard<'_, T> {
    shared.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The ids that owners and ACLs of a tree have.
#[derive(Debug, Default)]
struct Owners {
    uids: BTreeSet<u32>,
    gids: BTreeSet<u32>,
    scripts: bool,
}

impl Owners {
    fn of(tree: &Tree) -> Self {
        // Root is never one of many.
        let (mut uids, mut gids) = (BTreeSet::from([0]), BTreeSet::from([0]));
        let mut scripts = false;
        for id in tree.ids() {
            let owner = tree.inode(id).stored_owner();
            uids.insert(owner.uid.raw());
            gids.insert(owner.gid.raw());
            for acl in tree.acl(id).into_iter().chain(tree.default_acl(id)) {
                uids.extend(acl.users.iter().map(|(uid, _)| uid.raw()));
                gids.extend(acl.groups.iter().map(|(gid, _)| gid.raw()));
            }
            scripts |= matches!(tree.content(id), Content::Script(_));
        }
        Self { uids, gids, scripts }
    }

    /// A process, as far as it can be told from others on this tree.
    fn seen(&self, who: &Credentials) -> String {
        let (Some(user), Some(group), None) = (who.fsuid.id(), who.fsgid.id(), &who.real) else {
            return format!("{who:?}");
        };
        let user = Some(user.raw()).filter(|id| self.uids.contains(id));
        let groups = std::iter::once(group).chain(who.groups.iter().copied());
        let groups: BTreeSet<u32> = groups.map(|id| id.raw()).filter(|id| self.gids.contains(id)).collect();
        format!(
            "{user:?} {groups:?} {:?} {:?} {:?} {:?} {:?} {:?} {:?} {:?}",
            who.effective,
            who.permitted,
            who.bounding,
            who.inheritable,
            who.ambient,
            who.umask,
            who.no_new_privileges,
            who.namespace
        )
    }
}
