//! Root on the host, who sets scenes up in rehearsals.

use std::sync::Arc;

use mivask_model::caps::CapabilitySet;
use mivask_model::credentials::{Credentials, Identity};
use mivask_model::fact::{Provenance, Unknown};
use mivask_model::held::Held;
use mivask_model::ids::{InsideGid, InsideUid, UserNamespace};
use mivask_model::labels::Labels;
use mivask_model::mode::Mode;
use mivask_model::mount::{
    Mount, MountFacts, MountFlags, MountId, MountOrigin, MountTable, SourceId, Variant,
};
use mivask_model::mount_kind::MountKind;
use mivask_model::tree::{InodeId, Tree};

use super::host_path::host_source;
use super::nested::source_on;
use super::selinux::{self, Confinement};
use crate::identity::Resolved;
use crate::runtime::Runtime;
use crate::scene::Scene;
use crate::stage::{Actor, Role, Stage};

/// The name it goes by.
pub const HOST: &str = "host";

/// The whole scene with one actor more, `host`: uid 0 on the host with every capability and umask 0022, who sees the host's
/// tree and its mounts. A container that is called `host` keeps its name, and there is no such actor.
#[must_use]
pub fn stage_with_host(scene: &Scene) -> Stage {
    super::staged(scene, |stage| {
        if stage.actor(HOST).is_ok() {
            return;
        }
        let mounts = mounts(stage, scene);
        let mut actor_names = (*stage.actor_names).clone();
        actor_names.add(HOST);
        stage.actor_names = Arc::new(actor_names);
        let Confinement { confined, unmodelled, .. } = selinux::of_person(scene, HOST);
        let host = Actor { confined, unmodelled: unmodelled.into_iter().collect(), ..actor(mounts) };
        Arc::make_mut(&mut stage.actors).push(host);
    })
}

/// What somebody on the host sees. The first source is the host's, where anything is given of it.
pub(super) fn mounts(stage: &mut Stage, scene: &Scene) -> MountTable {
    let given = host_source(scene).and(stage.source_ids().next());
    let source = given.unwrap_or_else(|| {
        let unknown = Unknown::new("what is on the host", "give `host: { tree: ... }` in a scene file");
        super::prepared::local_source(stage, HOST, None, (Tree::unknown(&unknown), Labels::default()))
    });
    table(stage, scene, source)
}

pub(super) fn actor(mounts: MountTable) -> Actor {
    let identity = Identity {
        real: None,
        uid: Held::Id(InsideUid::new(0)),
        gid: Held::Id(InsideGid::new(0)),
        unmapped_groups: Arc::default(),
        groups: Vec::new(),
        effective: CapabilitySet::ALL,
        permitted: CapabilitySet::ALL,
        bounding: CapabilitySet::ALL,
        inheritable: CapabilitySet::EMPTY,
        ambient: CapabilitySet::EMPTY,
        umask: Mode::new(0o022),
        no_new_privileges: false,
        namespace: Arc::new(UserNamespace::initial()),
    };
    Actor {
        runtime: Runtime::Bare,
        starter: None,
        name: HOST.into(),
        workload: HOST.into(),
        container: HOST.into(),
        role: Role::Person,
        image: None,
        credentials: Credentials::of(&identity).into_iter().collect(),
        identity: Resolved {
            possible: vec![("".into(), identity)],
            question: None,
            name: Some("root".to_owned()),
            facts: Vec::new(),
            refusal: None,
            assumptions: vec!["whoever sets things up on the host is root there, with umask 0022".into()],
        },
        mounts,
        all_devices: true,
        unmodelled: Vec::new(),
        confined: None,
        profile: None,
        needs: Vec::new(),
        blocked: None,
        guest: false,
        from: Provenance::rule("root on the host"),
    }
}

/// The host's root and what is mounted below it.
fn table(stage: &mut Stage, scene: &Scene, host: SourceId) -> MountTable {
    let mut table = MountTable::default();
    let given = scene.host.mounts.as_ref();
    let root = given.and_then(|mounts| mounts.covering(b"/"));
    let source = source_on(stage, host, root);
    let flags = root.map_or(MountFlags::NONE, |mount| mount.flags);
    let from = root.map_or_else(|| Provenance::rule("the host's root"), |mount| mount.from.clone());
    table.push(mount(None, b"/", source, Tree::ROOT, flags, from));
    for inner in given.into_iter().flat_map(|mounts| mounts.below(b"/").map(|(mount, _)| mount)) {
        let source = source_on(stage, host, Some(inner));
        let tree = &stage.source(source).tree;
        // Every source here numbers its inodes as the host does.
        let Some(shows) = tree.find(&inner.at) else { continue };
        let outer = table
            .iter()
            .filter(|(_, outer)| mivask_model::host_mounts::is_within(&inner.at, &outer.facts.at));
        let Some((outer, _)) = outer.max_by_key(|(_, outer)| outer.facts.at.len()) else { continue };
        table.push(mount(Some((outer, shows)), &inner.at, source, shows, inner.flags, inner.from.clone()));
    }
    table
}

fn mount(
    on: Option<(MountId, InodeId)>,
    at: &[u8],
    source: SourceId,
    root: InodeId,
    flags: MountFlags,
    from: Provenance,
) -> Mount {
    let facts = MountFacts {
        host_path: on.is_some().then(|| at.into()),
        ..MountFacts::plain(at, MountKind::Host, from)
    };
    Mount {
        on,
        variants: vec![Variant::only(source)],
        root: Some(root),
        flags,
        origin: if on.is_none() { MountOrigin::Root } else { MountOrigin::Default },
        facts: Arc::new(facts),
    }
}
