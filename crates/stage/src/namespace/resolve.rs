//! From what is asked for to the ids that a container has.

use std::sync::Arc;

use mivask_model::accounts::Accounts;
use mivask_model::fact::{Fact, Provenance};
use mivask_model::ids::{Extent, IdMap, UserNamespace};
use mivask_model::unmodelled::Unmodelled;

use super::asked::{Auto, KeepId, NamespaceAsked};
use super::auto::picked;
use super::lines::map;
use super::remapped::by_first_id;
use super::starter::{Starter, SubordinateIds, UnknownStarter};
use crate::runtime::Runtime;

/// Who makes the container.
#[derive(Clone, Copy, Debug)]
pub struct Engine<'a> {
    /// Its rules.
    pub runtime: Runtime,
    /// Who started it, where that is not root.
    pub starter: Option<&'a Starter>,
    /// Whether somebody said who started it; root is taken for granted otherwise.
    pub told: bool,
    /// Which container of the stage it is: what it picks is nobody else's.
    pub container: usize,
    /// The namespace that a daemon of root's puts all containers into.
    pub remapped: Option<&'a Fact<Arc<UserNamespace>>>,
    /// The host's account files, where they are given.
    pub accounts: Option<&'a Accounts>,
    /// Its subordinate ids.
    pub subordinate: &'a SubordinateIds,
}

/// The user namespace of a container.
#[derive(Clone, Debug, Default)]
pub struct Space {
    /// Its ids; `None` in the host's own.
    pub namespace: Option<Fact<Arc<UserNamespace>>>,
    /// Whether the runtime makes one for the container, instead of leaving it in the engine's.
    pub own: bool,
    /// The user and group inside that it runs as where neither description nor image names one.
    pub user: Option<(u32, u32)>,
    /// A group inside that it is in beside its own, unless it keeps those of who starts the engine.
    pub group: Option<u32>,
    /// Why the engine refuses it.
    pub refusal: Option<String>,
    /// Where the engine picks ids.
    pub picked: bool,
    /// Where nobody can tell which ids it gives.
    pub unmodelled: Option<Unmodelled>,
    /// What was taken for granted.
    pub assumptions: Vec<Arc<str>>,
}

/// The namespace that comes of what is `asked` for; the engine's own where nothing is.
#[must_use]
pub fn space(asked: Option<&Fact<NamespaceAsked>>, engine: &Engine<'_>) -> Space {
    let Some(asked) = asked else { return engine.own() };
    let from = &asked.from;
    let known = matches!(engine.runtime, Runtime::Podman);
    match &asked.value {
        NamespaceAsked::Ids(ids) => made(UserNamespace::clone(ids), from),
        NamespaceAsked::Host => engine.of_host(from),
        NamespaceAsked::Bad(bad) => Space { refusal: Some(bad.to_string()), ..engine.own() },
        _ if engine.runtime == Runtime::Docker => {
            let refusal =
                "Docker knows no user namespace but `host` (Podman does: --runtime podman)".to_owned();
            Space { refusal: Some(refusal), ..engine.own() }
        }
        NamespaceAsked::Elsewhere(name) => unknown(engine, name, from),
        NamespaceAsked::Of(name) => unknown(engine, &format!("container:{name}"), from),
        NamespaceAsked::Lines { .. }
        | NamespaceAsked::KeepId(_)
        | NamespaceAsked::NoMap
        | NamespaceAsked::Auto(_)
        | NamespaceAsked::Subordinate(_)
            if !known =>
        {
            unknown(engine, "a user namespace of Podman's", from)
        }
        NamespaceAsked::Lines { uids, gids } => engine.lines((uids, gids), from),
        NamespaceAsked::KeepId(asked) => engine.keep_id(asked, from),
        NamespaceAsked::NoMap => engine.no_map(from),
        NamespaceAsked::Auto(asked) => engine.auto(asked, from),
        NamespaceAsked::Subordinate(user) => engine.subordinate_of(user, from),
    }
}

fn made(ids: UserNamespace, from: &Provenance) -> Space {
    let own = !ids.is_initial();
    Space { namespace: Some(Fact::new(Arc::new(ids), from.clone())), own, ..Space::default() }
}

fn refused(engine: &Engine<'_>, why: impl Into<String>) -> Space {
    Space { refusal: Some(why.into()), ..engine.own() }
}

fn unknown(engine: &Engine<'_>, name: &str, from: &Provenance) -> Space {
    let settle = "give its maps under `host: { user-namespace: ... }` in a scene file";
    let unmodelled = Some(Unmodelled::ids(&format!("`{name}`"), settle, from.clone()));
    Space { unmodelled, ..engine.own() }
}

impl Engine<'_> {
    /// Where a container is that asks for nothing.
    fn own(&self) -> Space {
        let Some(starter) = self.starter else {
            let namespace = self.remapped.cloned();
            let own = namespace.as_ref().is_some_and(|namespace| !namespace.value.is_initial());
            return Space { namespace, own, ..Space::default() };
        };
        let namespace = Some(Fact::new(starter.namespace.clone(), starter.from.clone()));
        Space { namespace, assumptions: starter.assumptions.clone(), ..Space::default() }
    }

    /// `--subuidname`: all of somebody's subordinate ids, by their first one (docs/facts/rootless.md 19). What an engine without root
    /// makes of it was not tried.
    fn subordinate_of(&self, user: &str, from: &Provenance) -> Space {
        let what = format!("--subuidname {user}");
        if self.starter.is_some() {
            return unknown(self, &what, from);
        }
        match by_first_id(user, self.accounts, self.subordinate) {
            Ok(ids) => made(ids, from),
            Err(
                why @ (UnknownStarter::NoIds(_)
                | UnknownStarter::Empty(_)
                | UnknownStarter::Overlap(_)
                | UnknownStarter::TooMany(_)),
            ) => refused(self, format!("{what}: {why}")),
            Err(
                why @ (UnknownStarter::NoAccount(_)
                | UnknownStarter::NoAccounts(_)
                | UnknownStarter::Untold(_)),
            ) => {
                let settle = format!(
                    "{why}: give them with --host-accounts, or as `subuid` and `subgid` of the host in a scene file"
                );
                let unmodelled = Some(Unmodelled::ids(&format!("`{what}`"), &settle, from.clone()));
                Space { unmodelled, ..self.own() }
            }
        }
    }

    /// `host` leaves what a daemon of root's puts others into; one without root has nothing beyond its own.
    fn of_host(&self, from: &Provenance) -> Space {
        if self.starter.is_some() {
            return self.own();
        }
        Space {
            namespace: Some(Fact::new(Arc::new(UserNamespace::initial()), from.clone())),
            ..Space::default()
        }
    }

    /// The engine's ids as the host has them.
    fn ids(&self) -> UserNamespace {
        self.starter.map_or_else(UserNamespace::initial, |starter| UserNamespace::clone(&starter.namespace))
    }

    /// Ids of the engine's as the host's, which the kernel refuses where the engine lacks one.
    fn outside(&self, inner: &UserNamespace, from: &Provenance) -> Space {
        let engine = self.ids();
        let maps = inner.uids.within(&engine.uids).zip(inner.gids.within(&engine.gids));
        let Some((uids, gids)) = maps else {
            return refused(self, "a line of its map leads to ids that the engine does not have (EPERM)");
        };
        /// `UID_GID_MAP_MAX_EXTENTS`
        const MOST: usize = 340;
        if uids.extents().len().max(gids.extents().len()) > MOST {
            return refused(self, "its map has more than 340 lines (EINVAL)");
        }
        Space { own: true, assumptions: self.own().assumptions, ..made(UserNamespace { uids, gids }, from) }
    }

    /// Of a list that is left out the other one stands for both (`ParseIDMapping`).
    fn lines(&self, (uids, gids): (&[super::MapLine], &[super::MapLine]), from: &Provenance) -> Space {
        let (uids, gids) = match (uids.is_empty(), gids.is_empty()) {
            (true, _) => (gids, gids),
            (false, true) => (uids, uids),
            (false, false) => (uids, gids),
        };
        let engine = self.ids();
        let maps = map(uids, &engine.uids).and_then(|uids| Ok((uids, map(gids, &engine.gids)?)));
        let (uids_map, gids_map) = match maps {
            Ok(maps) => maps,
            Err(bad) => return refused(self, bad.to_string()),
        };
        let mut space = self.outside(&UserNamespace { uids: uids_map, gids: gids_map }, from);
        if uids.iter().chain(gids).any(|line| line.extends || line.of_host) {
            space.assumptions.push(
                "`+` and `@` in a map are as podman-run(1) of Podman 5 says; earlier ones refuse them".into(),
            );
        }
        space
    }

    /// A mode that root's engine refuses: somebody else starts it, unless root is said to.
    fn without_starter(&self, mode: &str, from: &Provenance) -> Space {
        if self.told {
            return refused(self, format!("`{mode}`: Podman takes it from an engine without root alone"));
        }
        let settle =
            "say who starts the engine: --rootless USER, or `host: { started-by: USER }` in a scene file";
        let unmodelled = Some(Unmodelled::ids(&format!("`{mode}`"), settle, from.clone()));
        Space { unmodelled, ..self.own() }
    }

    /// Who starts it is `uid` inside, and the subordinate ids are around it (`GetKeepIDMapping`).
    fn keep_id(&self, asked: &KeepId, from: &Provenance) -> Space {
        let Some(starter) = self.starter else { return self.without_starter("keep-id", from) };
        if starter.sub_uids == 0 || starter.sub_gids == 0 {
            return refused(self, "`keep-id` needs subordinate ids (subuid(5))");
        }
        let (uid, gid) = (asked.uid.unwrap_or(starter.uid), asked.gid.unwrap_or(starter.gid));
        if uid == 0 || gid == 0 {
            return refused(
                self,
                "`keep-id` makes an empty line of the map for the id 0 (EINVAL, Podman 4.3)",
            );
        }
        let most = asked.size.unwrap_or(u32::MAX);
        let inner = UserNamespace {
            uids: around(uid, starter.sub_uids.min(most)),
            gids: around(gid, starter.sub_gids.min(most)),
        };
        let mut space = Space { user: Some((uid, gid)), group: Some(gid), ..self.outside(&inner, from) };
        if asked.size.is_some() {
            space.assumptions.push(
                "`size=` of keep-id is as podman-run(1) of Podman 5 says; earlier ones refuse it".into(),
            );
        }
        space
    }

    /// The subordinate ids alone (`GetNoMapMapping`).
    fn no_map(&self, from: &Provenance) -> Space {
        let Some(starter) = self.starter else { return self.without_starter("nomap", from) };
        if starter.sub_uids == 0 || starter.sub_gids == 0 {
            return refused(self, "`nomap` needs subordinate ids (subuid(5))");
        }
        let all = |count| IdMap::new(vec![Extent { inside: 0, outside: 1, count }]);
        let inner = UserNamespace { uids: all(starter.sub_uids), gids: all(starter.sub_gids) };
        Space { group: Some(0), ..self.outside(&inner, from) }
    }

    /// A range of the engine's own ids that nobody else has.
    fn auto(&self, asked: &Auto, from: &Provenance) -> Space {
        let available = self.starter.map(|starter| starter.sub_uids.min(starter.sub_gids));
        if available == Some(0) {
            return refused(self, "`auto` needs subordinate ids (subuid(5))");
        }
        if let Some((size, there)) = asked.size.zip(available).filter(|(size, there)| size > there) {
            return refused(
                self,
                format!("`auto` is to have {size} ids, and the engine has {there} to give"),
            );
        }
        let mut space = match picked(asked, &self.ids(), self.container) {
            Ok(Some(ids)) => Space { own: true, picked: true, ..made(ids, from) },
            Ok(None) => {
                return refused(self, "a line of its map leads to ids that the engine does not have (EPERM)");
            }
            Err(bad) => return refused(self, bad.to_string()),
        };
        space.assumptions = self.own().assumptions;
        if self.starter.is_none() {
            space.assumptions.push(
                "the range that `auto` picks, of the subordinate ids of `containers`, lies above 65535"
                    .into(),
            );
        }
        if asked.size.is_none() {
            space.assumptions.push("the range that `auto` picks has all ids that are used inside (`size=` says how many it has, 1024 at least)".into());
        }
        space
    }
}

/// `0..id` are the subordinate ids from 1, `id` is the engine's 0, and what is left of the subordinate ids follows.
fn around(id: u32, held: u32) -> IdMap {
    let mut extents = Vec::new();
    if id > 0 {
        extents.push(Extent { inside: 0, outside: 1, count: id.min(held) });
    }
    extents.push(Extent { inside: id, outside: 0, count: 1 });
    if held > id {
        extents.push(Extent { inside: id + 1, outside: id + 1, count: held - id });
    }
    IdMap::new(extents)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::namespace::{mode, starter, subordinate};

    /// The namespace that a user 1500 with the subordinate ids `ranges` gives for `asked`, or why none.
    fn given(asked: &str, ranges: &str) -> String {
        let fact = |text: &str| Fact::new(text.to_owned(), Provenance::rule("a test"));
        let ids = SubordinateIds { uids: Some(subordinate(ranges)), gids: Some(subordinate(ranges)) };
        let starter = starter(&fact("1500"), None, &ids).unwrap();
        let engine = Engine {
            runtime: Runtime::Podman,
            starter: starter.as_ref(),
            told: true,
            container: 0,
            remapped: None,
            accounts: None,
            subordinate: &ids,
        };
        let asked = mode(asked).map(|asked| Fact::new(asked, Provenance::rule("a test")));
        let space = space(asked.as_ref(), &engine);
        space.refusal.unwrap_or_else(|| space.namespace.map_or_else(String::new, |ids| ids.value.to_string()))
    }

    macro_rules! spaces {
        ($($name:ident: $asked:literal with $ranges:literal => $ids:literal;)+) => {$(
            #[test]
            fn $name() {
                assert_eq!(given($asked, $ranges), $ids);
            }
        )+};
    }

    spaces! {
        nothing_asked_for: "" with "1500:200000:65536" => "users 0 from 1500, 1-65536 from 200000, groups alike";
        ranges_follow_one_another_by_their_first_id: "" with "1500:300000:5\n1500:200000:5" => "users 0 from 1500, 1-5 from 200000, 6-10 from 300000, groups alike";
        without_ranges_there_is_one_id: "" with "other:200000:5" => "users 0 from 1500, groups alike";
        who_starts_it_keeps_the_number: "keep-id" with "1500:200000:65536" => "users 0-1499 from 200000, 1500 from 1500, 1501-65536 from 201500, groups alike";
        or_has_another_one: "keep-id:uid=3,gid=1" with "1500:200000:9" => "users 0-2 from 200000, 3 from 1500, 4-9 from 200003, groups 0 from 200000, 1 from 1500, 2-9 from 200001";
        zero_is_an_empty_line: "keep-id:uid=0" with "1500:200000:9" => "`keep-id` makes an empty line of the map for the id 0 (EINVAL, Podman 4.3)";
        a_small_range_leaves_a_gap: "keep-id:uid=4000,gid=4000" with "1500:200000:2000" => "users 0-1999 from 200000, 4000 from 1500, groups alike";
        who_starts_it_is_nobody: "nomap" with "1500:200000:65536" => "users 0-65535 from 200000, groups alike";
        two_ranges_split_a_line: "nomap" with "1500:200000:5\n1500:300000:5" => "users 0-4 from 200000, 5-9 from 300000, groups alike";
        nobody_without_ranges: "nomap" with "" => "`nomap` needs subordinate ids (subuid(5))";
        the_hosts_is_the_engines: "host" with "1500:200000:5" => "users 0 from 1500, 1-5 from 200000, groups alike";
        more_than_there_is: "auto:size=70000" with "1500:200000:65536" => "`auto` is to have 70000 ids, and the engine has 65536 to give";
    }
}
