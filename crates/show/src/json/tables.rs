//! Identities, mounts, the matrix and imprints.

use std::collections::BTreeMap;

use mivask_core::caps::CapabilitySet;
use mivask_core::credentials::Identity;
use mivask_core::identity::IdentityFact;
use mivask_core::ids::{Extent, IdMap, OVERFLOW_ID, UserNamespace};
use mivask_core::picked::is_picked;
use mivask_core::question::{AccessRow, Cell, Column, ImprintRow, PathFacts, PerColumn, Swept};
use mivask_core::settle::Outcome;
use mivask_core::stage::Actor;
use mivask_core::unmodelled::Touches;
use schemars::JsonSchema;
use serde::Serialize;

use super::JsonPath;
use super::answers::{DependenceJson, RefusalJson};
use super::imprint::ImprintJson;
use super::usually::{UsualEndJson, UsuallyJson};

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Identity")]
pub(super) struct IdentityJson {
    actor: String,
    workload: String,
    role: &'static str,
    image: Option<String>,
    starts: bool,
    refusal: Option<String>,
    refusal_class: Option<&'static str>,
    uid: Option<u32>,
    gid: Option<u32>,
    /// The real user id; another than `uid` where the program that starts is set-id.
    real_uid: Option<u32>,
    /// The real group id, likewise.
    real_gid: Option<u32>,
    groups: Option<Vec<u32>>,
    /// The same as the host has them; `null` too for an id of a range that the engine picks.
    host_uid: Option<u32>,
    host_gid: Option<u32>,
    host_groups: Option<Vec<u32>>,
    /// Who starts the engine, by login name or user id, where that is not root.
    started_by: Option<String>,
    name: Option<String>,
    #[schemars(regex(pattern = "^[0-7]{4}$"))]
    umask: Option<String>,
    capabilities: CapabilitiesJson,
    no_new_privileges: Option<bool>,
    user_namespace: Option<NamespaceJson>,
    possible: Vec<PossibleJson>,
    facts: Vec<FactJson>,
    assumptions: Vec<String>,
    /// Facts that are missing about it as a whole: whether it starts, and what it asks for and no rule follows.
    missing_facts: Vec<String>,
}

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Capabilities")]
struct CapabilitiesJson {
    effective: Option<Vec<&'static str>>,
    permitted: Option<Vec<&'static str>>,
    bounding: Option<Vec<&'static str>>,
}

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Namespace")]
struct NamespaceJson {
    initial: bool,
    /// Lines `[inside, outside, count]`; none where every id is itself. `outside` is `null` where it is picked at the start.
    uids: Vec<(u32, Option<u32>, u32)>,
    gids: Vec<(u32, Option<u32>, u32)>,
}

impl NamespaceJson {
    fn new(namespace: &UserNamespace) -> Self {
        let line = |line: &Extent| (line.inside, told(line.outside), line.count);
        let lines = |map: &IdMap| map.extents().iter().map(line).collect();
        Self { initial: namespace.is_initial(), uids: lines(&namespace.uids), gids: lines(&namespace.gids) }
    }
}

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Possible")]
struct PossibleJson {
    when: String,
    uid: Option<u32>,
    gid: Option<u32>,
    groups: Vec<u32>,
}

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Fact")]
struct FactJson {
    field: &'static str,
    value: String,
    from: String,
}

impl FactJson {
    fn new(fact: &IdentityFact) -> Self {
        Self { field: fact.field.word(), value: fact.value.clone(), from: fact.from.to_string() }
    }
}

impl IdentityJson {
    pub(super) fn new(actor: &Actor) -> Self {
        let resolved = &actor.identity;
        let refusal = actor.refusal();
        let possible: Vec<&Identity> = resolved.possible.iter().map(|(_, identity)| identity).collect();
        let starts = refusal.is_none();
        let listed = if possible.len() > 1 { resolved.possible.as_slice() } else { &[] };
        let possible_json = listed.iter().map(|(when, identity)| PossibleJson {
            when: when.to_string(),
            uid: identity.uid.id().map(|id| id.raw()),
            gid: identity.gid.id().map(|id| id.raw()),
            groups: group_numbers(identity),
        });
        // A container that never starts has no identity: only the reason counts.
        let shown: &[&Identity] = if starts { &possible } else { &[] };
        let set = |get: fn(&Identity) -> CapabilitySet| {
            agreed(shown, get).map(|set| set.iter().map(|cap| cap.name()).collect())
        };
        let (host_uid, host_gid, host_groups) = on_host(actor, shown);
        Self {
            actor: actor.name.to_string(),
            workload: actor.workload.to_string(),
            role: actor.role.word(),
            image: actor.image.as_ref().map(ToString::to_string),
            starts,
            refusal: refusal.map(|refusal| refusal.reason.clone()),
            refusal_class: refusal.map(|refusal| refusal.class.word()),
            uid: agreed(shown, |identity| identity.uid.id()).flatten().map(|id| id.raw()),
            gid: agreed(shown, |identity| identity.gid.id()).flatten().map(|id| id.raw()),
            real_uid: agreed(shown, |identity| identity.real.map_or(identity.uid, |real| real.uid).id())
                .flatten()
                .map(|id| id.raw()),
            real_gid: agreed(shown, |identity| identity.real.map_or(identity.gid, |real| real.gid).id())
                .flatten()
                .map(|id| id.raw()),
            groups: agreed(shown, group_numbers),
            host_uid,
            host_gid,
            host_groups,
            started_by: actor
                .starter
                .as_ref()
                .map(|starter| starter.name.clone().unwrap_or_else(|| starter.uid.to_string())),
            name: resolved.name.clone(),
            umask: agreed(shown, |identity| identity.umask.to_string()),
            capabilities: CapabilitiesJson {
                effective: set(|identity| identity.effective),
                permitted: set(|identity| identity.permitted),
                bounding: set(|identity| identity.bounding),
            },
            no_new_privileges: agreed(shown, |identity| identity.no_new_privileges),
            user_namespace: agreed(shown, |identity| identity.namespace.clone())
                .map(|namespace| NamespaceJson::new(&namespace)),
            possible: possible_json.collect(),
            facts: resolved.facts.iter().map(FactJson::new).collect(),
            assumptions: assumptions(actor),
            missing_facts: missing_facts(actor),
        }
    }
}

/// User, group and groups as the host has them, where the user namespace is known.
fn on_host(actor: &Actor, shown: &[&Identity]) -> (Option<u32>, Option<u32>, Option<Vec<u32>>) {
    if actor.unmodelled.iter().any(|one| one.touches == Touches::Ids) {
        return (None, None, None);
    }
    let uid = |one: &Identity| told(one.uid.id().and_then(|uid| one.namespace.to_kernel_uid(uid))?.raw());
    let gid = |one: &Identity| told(one.gid.id().and_then(|gid| one.namespace.to_kernel_gid(gid))?.raw());
    (agreed(shown, uid).flatten(), agreed(shown, gid).flatten(), agreed(shown, host_groups).flatten())
}

fn assumptions(actor: &Actor) -> Vec<String> {
    let trusted = actor.unmodelled.iter().filter(|one| one.touches == Touches::Trusted);
    let own = actor.identity.assumptions.iter().map(ToString::to_string);
    own.chain(trusted.map(|one| one.name.clone())).collect()
}

fn missing_facts(actor: &Actor) -> Vec<String> {
    let needs = actor.needs.iter().map(|need| &need.unknown);
    let unmodelled = actor.unmodelled.iter().filter(|one| one.touches != Touches::Trusted);
    needs.chain(unmodelled.map(|one| &one.unknown)).map(|unknown| unknown.fact.to_string()).collect()
}

/// An id of the host, unless the engine picks it.
pub(super) fn told(id: u32) -> Option<u32> {
    Some(id).filter(|id| !is_picked(*id))
}

/// Supplementary groups as the host has them, sorted.
fn host_groups(identity: &Identity) -> Option<Vec<u32>> {
    let inside = identity.groups.iter().filter_map(|gid| gid.id());
    let mapped = inside.map(|gid| told(identity.namespace.to_kernel_gid(gid)?.raw()));
    let unmapped = identity.unmapped_groups.iter().map(|gid| Some(gid.raw()));
    let mut all = mapped.chain(unmapped).collect::<Option<Vec<u32>>>()?;
    all.sort_unstable();
    all.dedup();
    Some(all)
}

fn group_numbers(identity: &Identity) -> Vec<u32> {
    let unmapped = identity.unmapped_groups.iter().map(|_| OVERFLOW_ID);
    identity.groups.iter().filter_map(|gid| gid.id()).map(|gid| gid.raw()).chain(unmapped).collect()
}

/// What every possibility says, or nothing.
fn agreed<T: PartialEq>(possible: &[&Identity], get: impl Fn(&Identity) -> T) -> Option<T> {
    let first = get(possible.first()?);
    possible.iter().all(|identity| get(identity) == first).then_some(first)
}

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Access")]
pub(super) struct AccessJson<'a> {
    actor: &'a str,
    path: JsonPath,
    kind: Option<&'static str>,
    uid: Option<u32>,
    gid: Option<u32>,
    /// The owner as the disk has it, of what the description mounts.
    disk_uid: Option<u32>,
    disk_gid: Option<u32>,
    #[schemars(regex(pattern = "^[0-7]{4}$"))]
    mode: Option<String>,
    /// `uid` and `gid` are as the actor sees them.
    #[schemars(extend("const" = "inside"))]
    ids: &'static str,
    missing: bool,
    /// How many known entries below it have no row of their own, where no path was named.
    deeper: usize,
    read: Option<&'static str>,
    write: Option<&'static str>,
    create: Option<&'static str>,
    delete: Option<&'static str>,
    list: Option<&'static str>,
    enter: Option<&'static str>,
    run: Option<&'static str>,
    /// The errno of each denied column.
    errnos: BTreeMap<&'static str, &'static str>,
    /// The columns that depend, where every missing fact that matters is usually one way (docs/usual.md).
    usually: BTreeMap<&'static str, UsualEndJson>,
}

impl<'a> AccessJson<'a> {
    pub(super) fn new(row: &'a AccessRow) -> Self {
        let given = row.cells.map(|outcome| {
            outcome.as_ref().map(|outcome| (outcome.word(), outcome.errno().map(|errno| errno.name())))
        });
        let usual = row.usually.iter();
        let usually = usual
            .filter_map(|(column, end)| Some((column.word(), UsualEndJson::new(end.as_ref()?))))
            .collect();
        Self {
            deeper: row.deeper,
            usually,
            ..Self::of(&row.actor, &row.path, row.facts.as_ref(), row.missing, given)
        }
    }

    /// An entry of a sweep, in the same fields.
    pub(super) fn swept(actor: &'a str, swept: &Swept<'_>, facts: Option<&PathFacts>) -> Self {
        let kind = facts.map_or(swept.kind, |facts| facts.kind);
        let given = PerColumn::from_fn(|column| match swept.cell(column) {
            Cell::Void => None,
            Cell::Allowed => Some(("allowed", None)),
            Cell::Denied(errno) => Some(("denied", Some(errno.name()))),
            Cell::Open => Some(("depends", None)),
        });
        let usual = swept.endings.iter();
        let usually = usual
            .filter_map(|(column, ending)| Some((column.word(), UsualEndJson::new(&ending.usually()?))))
            .collect();
        Self { kind: Some(kind.word()), usually, ..Self::of(actor, swept.path, facts, false, given) }
    }

    /// `given`: the word and the errno of each column.
    fn of(
        actor: &'a str,
        path: &[u8],
        facts: Option<&PathFacts>,
        missing: bool,
        given: PerColumn<Option<(&'static str, Option<&'static str>)>>,
    ) -> Self {
        let errnos = given.iter();
        let errnos = errnos.filter_map(|(column, given)| Some((column.word(), (*given)?.1?))).collect();
        let word = |column| given.of(column).map(|(word, _)| word);
        Self {
            actor,
            path: JsonPath::new(path),
            kind: facts.map(|facts| facts.kind.word()),
            uid: facts.and_then(|facts| facts.uid).map(|uid| uid.raw()),
            gid: facts.and_then(|facts| facts.gid).map(|gid| gid.raw()),
            disk_uid: facts.and_then(|facts| told(facts.disk?.uid.raw())),
            disk_gid: facts.and_then(|facts| told(facts.disk?.gid.raw())),
            mode: facts.and_then(|facts| facts.mode).map(|mode| mode.to_string()),
            ids: "inside",
            missing,
            deeper: 0,
            read: word(Column::Read),
            write: word(Column::Write),
            create: word(Column::Create),
            delete: word(Column::Delete),
            list: word(Column::List),
            enter: word(Column::Enter),
            run: word(Column::Run),
            errnos,
            usually: BTreeMap::new(),
        }
    }
}

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "ImprintRow")]
pub(super) struct ImprintRowJson<'a> {
    actor: &'a str,
    directory: JsonPath,
    kind: &'static str,
    requested: String,
    #[schemars(extend("enum" = ["allowed", "denied", "depends", "never-runs"]))]
    outcome: &'static str,
    errno: Option<&'static str>,
    refusal: Option<RefusalJson<'a>>,
    imprint: Option<ImprintJson<'a>>,
    depends_on: Vec<DependenceJson<'a>>,
    /// How it ends where every missing fact that matters is as usual (docs/usual.md).
    usually: Option<UsuallyJson<'a>>,
}

impl<'a> ImprintRowJson<'a> {
    pub(super) fn new(row: &'a ImprintRow) -> Self {
        let refusal = match &row.outcome {
            Outcome::NeverRuns(refusal) => Some(RefusalJson::new(refusal)),
            Outcome::Allowed | Outcome::Denied(_) | Outcome::Depends => None,
        };
        Self {
            actor: &row.actor,
            directory: JsonPath::new(&row.directory),
            kind: row.kind.file_kind().word(),
            requested: row.requested.to_string(),
            outcome: row.outcome.word(),
            errno: row.outcome.errno().map(|errno| errno.name()),
            refusal,
            imprint: row.imprint.as_ref().map(ImprintJson::new),
            depends_on: row.depends_on.iter().map(DependenceJson::new).collect(),
            usually: row.usually.as_ref().map(UsuallyJson::new),
        }
    }
}
