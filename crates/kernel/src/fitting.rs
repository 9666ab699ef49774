//! The ids of a scene within those that a plain user may map: in a user namespace whose ids are the scene's, an actor's
//! own namespace is made as on the host.
//!
//! What the kernel compares there are numbers of our namespace, so that a scene's host id 100000 may be any id of ours.
//! Where the scene has more ids than we do, some that nothing in it has are left out of its maps.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::act::{Act, Verb};
use mivask_model::ids::{
    Extent, IdMap, InsideGid, InsideUid, KernelGid, KernelUid, MountIds, NO_ID, UserNamespace,
};
use mivask_stage::namespace::Range;
use mivask_stage::stage::{Actor, Stage};

/// Lines of a map at most (`UID_GID_MAP_MAX_EXTENTS`).
const MOST_LINES: usize = 340;

/// The ids of one kind that a user may map.
#[derive(Clone, Debug)]
pub(crate) struct Own {
    pub id: u32,
    pub ranges: Vec<Range>,
}

/// The maps of our own namespace, and what is left out of those inside it.
#[derive(Clone, Debug)]
pub struct Fitted {
    pub(crate) namespace: UserNamespace,
    left_out: (Option<Range>, Option<Range>),
}

impl Fitted {
    /// The maps in which the actors of `acts` can be rebuilt; `None` where each is in the host's own namespace.
    ///
    /// # Errors
    /// Why the ids of a user are too few.
    pub(crate) fn of(stage: &Stage, acts: &[Act], own: (&Own, &Own)) -> Option<Result<Self, String>> {
        let mut uids = Needed::default();
        let mut gids = Needed::default();
        let mut any = false;
        for act in acts {
            let Ok(actor) = stage.actor(&act.actor) else { continue };
            any |= actor.credentials.iter().any(|who| !who.namespace.is_initial());
            let named = named(actor, act);
            of_actor(stage, actor, &named, (&mut uids, &mut gids));
        }
        if !any {
            return None;
        }
        let fit = || {
            let (of_users, no_user) = uids.fit(own.0, "user")?;
            let (of_groups, no_group) = gids.fit(own.1, "group")?;
            let namespace = UserNamespace { uids: of_users, gids: of_groups };
            Ok(Self { namespace, left_out: (no_user, no_group) })
        };
        Some(fit())
    }

    /// Takes what is left out from the maps of every actor and mount.
    pub fn trim(&self, stage: &mut Stage) {
        let (no_user, no_group) = self.left_out;
        for actor in Arc::make_mut(&mut stage.actors) {
            for who in &mut actor.credentials {
                let UserNamespace { uids, gids } = &*who.namespace;
                who.namespace =
                    Arc::new(UserNamespace { uids: without(uids, no_user), gids: without(gids, no_group) });
            }
            actor.mounts.change(|_, mount| {
                let MountIds { uids, gids } = &mount.facts.ids;
                let ids = MountIds { uids: without(uids, no_user), gids: without(gids, no_group) };
                if ids != mount.facts.ids {
                    Arc::make_mut(&mut mount.facts).ids = ids;
                }
            });
        }
    }
}

/// The map without what leads into `gone`.
fn without(map: &IdMap, gone: Option<Range>) -> IdMap {
    let Some(gone) = gone else { return map.clone() };
    let end = gone.first.saturating_add(gone.count);
    let kept = map.extents().iter().flat_map(|line| {
        let last = line.outside.saturating_add(line.count);
        let below = Extent { count: gone.first.min(last).saturating_sub(line.outside), ..*line };
        let skipped = end.max(line.outside) - line.outside;
        let above = Extent {
            inside: line.inside.saturating_add(skipped),
            outside: line.outside.saturating_add(skipped),
            count: line.count.saturating_sub(skipped),
        };
        // Where nothing is gone both are the whole line.
        let whole = gone.first >= last || end <= line.outside;
        if whole { vec![*line] } else { vec![below, above] }
    });
    IdMap::new(kept.filter(|line| line.count > 0).collect())
}

/// The ids of one kind that a scene has.
#[derive(Default)]
struct Needed {
    /// Of its namespaces and of mounts with maps: what they lead to.
    wide: Vec<Range>,
    /// That something has.
    single: BTreeSet<u32>,
}

impl Needed {
    fn map(&mut self, map: &IdMap) {
        self.wide.extend(map.extents().iter().map(|line| Range { first: line.outside, count: line.count }));
    }

    fn one(&mut self, id: u32) {
        if id != NO_ID {
            self.single.insert(id);
        }
    }

    /// The lines that give each of them an id of our own, and what had to be left out for that.
    fn fit(mut self, own: &Own, kind: &str) -> Result<(IdMap, Option<Range>), String> {
        self.one(own.id);
        let mut spans = self.spans();
        let room = own.ranges.iter().fold(1, |sum, range| sum + u64::from(range.count));
        let total: u64 = spans.iter().map(|(first, end)| end - first).sum();
        let mut gone = None;
        if let Some(excess) = total.checked_sub(room).filter(|excess| *excess > 0) {
            let found = self.unused(&spans, excess).ok_or_else(|| {
                format!(
                    "without root it takes {total} {kind} ids, and {room} are yours (/etc/sub{}id)",
                    &kind[..1]
                )
            })?;
            spans = spans.into_iter().flat_map(|span| cut(span, found)).collect();
            let number = |id: u64| u32::try_from(id).unwrap_or(u32::MAX);
            gone = Some(Range { first: number(found.0), count: number(found.1 - found.0) });
        }
        let own_id = (u64::from(own.id), u64::from(own.id) + 1);
        let others: Vec<(u64, u64)> = spans.into_iter().flat_map(|span| cut(span, own_id)).collect();
        let map = lines(&others, own);
        if map.extents().len() > MOST_LINES {
            let count = map.extents().len();
            return Err(format!(
                "without root its {kind} ids take {count} lines of a map, and {MOST_LINES} are the most"
            ));
        }
        Ok((map, gone))
    }

    /// All of them, first and end, in order and apart.
    fn spans(&self) -> Vec<(u64, u64)> {
        let wide = self
            .wide
            .iter()
            .map(|range| (u64::from(range.first), u64::from(range.first) + u64::from(range.count)));
        let single = self.single.iter().map(|id| (u64::from(*id), u64::from(*id) + 1));
        let mut all: Vec<(u64, u64)> = wide.chain(single).filter(|(first, end)| first < end).collect();
        all.sort_unstable();
        let mut apart: Vec<(u64, u64)> = Vec::new();
        for (first, end) in all {
            match apart.last_mut() {
                Some(last) if first <= last.1 => last.1 = last.1.max(end),
                Some(_) | None => apart.push((first, end)),
            }
        }
        apart
    }

    /// So many ids side by side that nothing has, the last ones of the longest span that has them.
    fn unused(&self, spans: &[(u64, u64)], count: u64) -> Option<(u64, u64)> {
        let mut spans = spans.to_vec();
        spans.sort_by_key(|(first, end)| std::cmp::Reverse(end - first));
        spans.iter().find_map(|(first, end)| {
            let id = |id: u64| u32::try_from(id).unwrap_or(u32::MAX);
            let mut top = *end;
            for used in self.single.range(id(*first)..id(*end)).rev() {
                if top - (u64::from(*used) + 1) >= count {
                    break;
                }
                top = u64::from(*used);
            }
            (top.checked_sub(count)? >= *first).then(|| (top - count, top))
        })
    }
}

/// What is left of a span on both sides of `gone`.
fn cut((first, end): (u64, u64), gone: (u64, u64)) -> Vec<(u64, u64)> {
    if gone.1 <= first || gone.0 >= end {
        return vec![(first, end)];
    }
    [(first, gone.0), (gone.1, end)].into_iter().filter(|(first, end)| first < end).collect()
}

/// One line for each part of a span that ids of ours side by side can be given to; our own id is itself.
fn lines(spans: &[(u64, u64)], own: &Own) -> IdMap {
    let mut extents = vec![Extent { inside: own.id, outside: own.id, count: 1 }];
    let mut ranges = own.ranges.iter().copied();
    let mut free = Range { first: 0, count: 0 };
    for (first, end) in spans {
        let mut at = *first;
        while at < *end {
            while free.count == 0 {
                let Some(next) = ranges.next() else { return IdMap::new(extents) };
                free = next;
            }
            let count = free.count.min(u32::try_from(end - at).unwrap_or(u32::MAX));
            extents.push(Extent {
                inside: u32::try_from(at).unwrap_or(u32::MAX),
                outside: free.first,
                count,
            });
            free = Range { first: free.first + count, count: free.count - count };
            at += u64::from(count);
        }
    }
    IdMap::new(extents)
}

/// What an actor is and names, and what is on the disks that it sees.
fn of_actor(
    stage: &Stage,
    actor: &Actor,
    (users, groups): &(Vec<KernelUid>, Vec<KernelGid>),
    (uids, gids): (&mut Needed, &mut Needed),
) {
    for who in &actor.credentials {
        uids.map(&who.namespace.uids);
        gids.map(&who.namespace.gids);
    }
    users.iter().for_each(|uid| uids.one(uid.raw()));
    groups.iter().for_each(|gid| gids.one(gid.raw()));
    let mut seen = BTreeSet::new();
    for (_, mount) in actor.mounts.iter() {
        let ids = &mount.facts.ids;
        uids.map(&ids.uids);
        gids.map(&ids.gids);
        // What is made or given away there is stored under these.
        users.iter().filter_map(|uid| ids.to_disk_uid(*uid)).for_each(|uid| uids.one(uid.raw()));
        groups.iter().filter_map(|gid| ids.to_disk_gid(*gid)).for_each(|gid| gids.one(gid.raw()));
        for source in mount.variants.iter().map(|variant| variant.source) {
            if !seen.insert(source) {
                continue;
            }
            let tree = &stage.source(source).tree;
            for id in tree.ids() {
                let owner = tree.inode(id).stored_owner();
                uids.one(owner.uid.raw());
                gids.one(owner.gid.raw());
                for acl in tree.acl(id).into_iter().chain(tree.default_acl(id)) {
                    acl.users.iter().for_each(|(uid, _)| uids.one(uid.raw()));
                    acl.groups.iter().for_each(|(gid, _)| gids.one(gid.raw()));
                }
            }
        }
    }
}

/// The kernel's ids of an actor, and of what an act names, as far as they are mapped.
fn named(actor: &Actor, act: &Act) -> (Vec<KernelUid>, Vec<KernelGid>) {
    let (mut users, mut groups) = (Vec::new(), Vec::new());
    if let Verb::SetsOwner(owner) = &act.verb {
        users.extend(owner.uid);
        groups.extend(owner.gid);
    }
    if let Verb::SetsGroup(gid) = &act.verb {
        groups.push(*gid);
    }
    if let Verb::SetsAcl(acl) | Verb::SetsDefaultAcl(acl) = &act.verb {
        users.extend(acl.users.iter().map(|(uid, _)| *uid));
        groups.extend(acl.groups.iter().map(|(gid, _)| *gid));
    }
    let (mut uids, mut gids) = (Vec::new(), Vec::new());
    for who in &actor.credentials {
        uids.extend(users.iter().filter_map(|uid| who.namespace.to_kernel_uid(InsideUid::new(*uid))));
        gids.extend(groups.iter().filter_map(|gid| who.namespace.to_kernel_gid(InsideGid::new(*gid))));
        uids.extend(who.fsuid.id().into_iter().chain(who.real.and_then(|real| real.uid.id())));
        gids.extend(who.fsgid.id().into_iter().chain(who.real.and_then(|real| real.gid.id())));
        gids.extend(who.groups.iter().copied());
    }
    (uids, gids)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn own() -> Own {
        Own { id: 1500, ranges: vec![Range { first: 300_000, count: 65_536 }] }
    }

    fn needed(wide: &[(u32, u32)], single: &[u32]) -> Needed {
        let wide = wide.iter().map(|(first, count)| Range { first: *first, count: *count }).collect();
        Needed { wide, single: single.iter().copied().collect() }
    }

    fn fitted(wide: &[(u32, u32)], single: &[u32]) -> (Vec<String>, Option<(u32, u32)>) {
        let (map, gone) = needed(wide, single).fit(&own(), "user").unwrap();
        let lines = map.extents().iter().map(ToString::to_string).collect();
        (lines, gone.map(|gone| (gone.first, gone.count)))
    }

    #[test]
    fn the_usual_map_has_one_id_too_many() {
        // 0 -> 1500, 1.. -> 100000.., and files of the host's root: the highest id, which nothing has, is left out.
        let (lines, gone) = fitted(&[(1500, 1), (100_000, 65_536)], &[0, 1500, 100_404]);
        assert_eq!(gone, Some((165_535, 1)));
        assert_eq!(lines, ["1500 1500 1", "0 300000 1", "100000 300001 65535"]);
        // Where it has an owner, another one goes.
        let (lines, gone) = fitted(&[(1500, 1), (100_000, 65_536)], &[0, 165_535, 165_533]);
        assert_eq!(gone, Some((165_534, 1)));
        assert_eq!(lines[2..], ["100000 300001 65534", "165535 365535 1"]);
    }

    #[test]
    fn few_ids_have_room() {
        let (lines, gone) = fitted(&[(7000, 10), (7005, 10)], &[0, 1, 2]);
        assert_eq!((lines.len(), gone), (3, None));
        assert_eq!(lines[1..], ["0 300000 3", "7000 300003 15"]);
        let several =
            Own { id: 5, ranges: vec![Range { first: 10, count: 2 }, Range { first: 20, count: 2 }] };
        let (map, _) = needed(&[(100, 3)], &[]).fit(&several, "user").unwrap();
        let lines: Vec<String> = map.extents().iter().map(ToString::to_string).collect();
        assert_eq!(lines, ["5 5 1", "100 10 2", "102 20 1"]);
    }

    #[test]
    fn too_many_are_counted() {
        let few = Own { id: 5, ranges: vec![Range { first: 10, count: 2 }] };
        let refused = needed(&[], &[0, 1, 2]).fit(&few, "group").unwrap_err();
        assert_eq!(refused, "without root it takes 4 group ids, and 3 are yours (/etc/subgid)");
        let scattered: Vec<u32> = (0..400).map(|at| at * 2).collect();
        let refused = needed(&[], &scattered).fit(&own(), "user").unwrap_err();
        assert!(refused.contains("lines of a map, and 340 are the most"), "{refused}");
    }

    #[test]
    fn what_is_left_out_is_out_of_every_map() {
        let map = IdMap::new(vec![
            Extent { inside: 0, outside: 1500, count: 1 },
            Extent { inside: 1, outside: 100_000, count: 65_536 },
        ]);
        let lines =
            |gone| -> Vec<String> { without(&map, gone).extents().iter().map(ToString::to_string).collect() };
        assert_eq!(lines(None), ["0 1500 1", "1 100000 65536"]);
        assert_eq!(lines(Some(Range { first: 165_535, count: 1 })), ["0 1500 1", "1 100000 65535"]);
        assert_eq!(
            lines(Some(Range { first: 100_010, count: 5 })),
            ["0 1500 1", "1 100000 10", "16 100015 65521"]
        );
        assert_eq!(lines(Some(Range { first: 1500, count: 1 })), ["1 100000 65536"]);
    }
}
