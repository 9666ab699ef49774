//! The user namespace of each container, and what it makes of an identity.

use std::borrow::Cow;
use std::sync::Arc;

use mivask_model::credentials::Credentials;
use mivask_model::fact::{Fact, Provenance};
use mivask_model::ids::{Extent, IdMap, InsideGid, InsideUid, KernelGid, KernelOwner, UserNamespace};
use mivask_model::picked::PICKED;
use mivask_model::refusal::{Refusal, RefusalClass};
use mivask_model::unmodelled::Unmodelled;

use super::context::Context;
use crate::identity::{GroupName, IdentityFact, IdentityField, NamespaceTerms, PlainIdentity, Resolved};
use crate::namespace::{Engine, NamespaceAsked, Space, UnknownStarter, space};
use crate::runtime::Runtime;
use crate::scene::{Container, Scene, Who};

/// The user namespace of a container: its own, its pod's, else the one that its engine puts all containers into.
pub(super) fn user_namespace(
    context: &Context<'_>,
    container: &Container,
) -> Option<Fact<Arc<UserNamespace>>> {
    space_of(context, container).namespace
}

const WHO_STARTS: &str =
    "say who starts the engine: --rootless USER, or `host: { started-by: USER }` in a scene file";

/// Else such a pod does not start; tmpfs (secrets, configMaps, memory) has id maps since Linux 6.3, FUSE since 6.12 where its server wants them.
const MAPS_VOLUMES: &str =
    "the node's kernel is Linux 6.3 or newer, and the file system of every volume has id maps";

/// The same with all that comes of it.
pub(super) fn space_of(context: &Context<'_>, container: &Container) -> Space {
    let (asked, owner) = match &container.who {
        Who::Plain(plain) => followed(context, plain, container),
        Who::Kubernetes(_) | Who::Process(_) | Who::Running(_) => (None, container),
    };
    let engine = Engine {
        runtime: context.runtime,
        starter: context.starter_of().0,
        told: context.scene.host.started_by.is_some(),
        container: of_pod(context, owner).unwrap_or_else(|| context.first + position(context, owner)),
        remapped: context.scene.host.user_namespace.as_ref(),
        accounts: context.scene.host.accounts.as_ref(),
        subordinate: &context.scene.host.subordinate,
    };
    let mut space = match &container.who {
        Who::Process(process) => {
            let namespace = process.user_namespace.clone();
            let rootless = |own: &Fact<Arc<UserNamespace>>| {
                let (uid, gid) = (InsideUid::new(0), InsideGid::new(0));
                own.value.to_kernel_uid(uid).is_none() || own.value.to_kernel_gid(gid).is_none()
            };
            let refused =
                context.profile.identity.needs_root_in_namespace && namespace.as_ref().is_some_and(rootless);
            let refusal = refused.then(|| "runc needs an id 0 in both maps of the user namespace".to_owned());
            return Space { own: namespace.is_some(), namespace, refusal, ..Space::default() };
        }
        Who::Running(_) => return Space::default(),
        Who::Plain(_) => space(asked, &engine),
        Who::Kubernetes(_) => match context.workload.own_users.as_ref() {
            Some(from) => Space {
                namespace: Some(pod_namespace(from)),
                own: true,
                assumptions: vec![MAPS_VOLUMES.into()],
                ..Space::default()
            },
            None => space(None, &engine),
        },
    };
    if let Some((word, unknown)) = of_nobody_known(context) {
        let what = "a daemon that gives its containers the ids of somebody";
        space.unmodelled = Some(Unmodelled::ids(what, &unknown.to_string(), word.from.clone()));
    }
    let what = "an engine without root";
    match (context.starter_of(), &container.of_user) {
        ((_, Some(unknown)), _) => {
            let from = context.scene.host.started_by.as_ref();
            let from =
                from.map_or_else(|| Provenance::rule("who starts the engine"), |word| word.from.clone());
            space.unmodelled = Some(Unmodelled::ids(what, &unknown.to_string(), from));
        }
        // Its ids are those of an engine's namespace, of which no more is known than that it is not the host's.
        ((None, None), Some(_)) if asked.is_none() && engine.remapped.is_some() => {}
        ((None, None), Some(from)) => {
            space.unmodelled = Some(Unmodelled::ids(what, WHO_STARTS, from.clone()));
        }
        ((Some(_), None), _) | ((None, None), None) => {}
    }
    space
}

/// The scene with the user namespace of its daemon's containers, where the ids of somebody say which that is.
pub(super) fn remapped(mut scene: Cow<'_, Scene>) -> Cow<'_, Scene> {
    let host = &scene.host;
    if let (Some(_), None, Ok(Some(namespace))) =
        (&host.remapped_to, &host.user_namespace, host.containers_namespace())
    {
        scene.to_mut().host.user_namespace = Some(namespace);
    }
    scene
}

/// Whose ids a daemon gives its containers, where nobody can tell which those are.
fn of_nobody_known<'a>(context: &Context<'a>) -> Option<(&'a Fact<String>, UnknownStarter)> {
    let host = &context.scene.host;
    Some((host.remapped_to.as_ref()?, host.containers_namespace().err()?))
}

/// Which container of the scene is the first of the same pod, whose user namespace is that of all of them.
fn of_pod(context: &Context<'_>, container: &Container) -> Option<usize> {
    let pod = container.pod.as_ref()?;
    let all = context.scene.workloads.iter().flat_map(|workload| &workload.containers);
    all.into_iter().position(|other| other.pod.as_ref() == Some(pod))
}

/// Which container of its workload it is.
fn position(context: &Context<'_>, container: &Container) -> usize {
    context.workload.containers.iter().position(|one| one.name == container.name).unwrap_or_default()
}

/// What `plain` asks for, and whose namespace that is: `container:NAME` is that one of the same description.
fn followed<'a>(
    context: &'a Context<'_>,
    plain: &'a PlainIdentity,
    own: &'a Container,
) -> (Option<&'a Fact<NamespaceAsked>>, &'a Container) {
    /// Containers that join one another, one after the other; more of them go in a circle.
    const MOST: usize = 64;
    let (mut asked, mut owner) = (plain.user_namespace.as_ref(), own);
    for _ in 0..MOST {
        let Some(NamespaceAsked::Of(name)) = asked.map(|asked| &asked.value) else { break };
        let joined = context.workload.containers.iter().find(|container| container.name == *name);
        let Some((Who::Plain(plain), joined)) = joined.map(|joined| (&joined.who, joined)) else { break };
        (asked, owner) = (plain.user_namespace.as_ref(), joined);
    }
    (asked, owner)
}

/// `hostUsers: false`: 65536 ids of the pod's own. Which ones decides nothing, since its volumes are id-mapped too.
fn pod_namespace(from: &Provenance) -> Fact<Arc<UserNamespace>> {
    let ids = IdMap::new(vec![Extent { inside: 0, outside: PICKED.start, count: 65_536 }]);
    Fact::new(Arc::new(UserNamespace { uids: ids.clone(), gids: ids }), from.clone())
}

/// Root of a user namespace, or of the host.
pub(super) fn root_of(namespace: Option<&UserNamespace>) -> KernelOwner {
    let Some(namespace) = namespace else { return KernelOwner::ROOT };
    let uid = namespace.to_kernel_uid(InsideUid::new(0)).unwrap_or(KernelOwner::ROOT.uid);
    let gid = namespace.to_kernel_gid(InsideGid::new(0)).unwrap_or(KernelOwner::ROOT.gid);
    KernelOwner { uid, gid }
}

/// What its namespace and who starts the engine add to who it is.
pub(super) fn terms(context: &Context<'_>, space: &Space) -> NamespaceTerms {
    let starter = context.starter_of().0.filter(|_| context.runtime == Runtime::Podman);
    let rule = || Provenance::rule("Podman adds it in such a user namespace");
    NamespaceTerms {
        starter: space.user,
        kept_group: space.group.filter(|_| !context.entering).map(|gid| Fact::new(gid, rule())),
        kept_groups: starter.map(|starter| starter.groups.as_slice().into()),
        available: starter.and(space.namespace.as_ref()).map(|namespace| namespace.value.clone()),
    }
}

/// Puts every possible identity into its namespace; one whose user or groups it does not map cannot start.
pub(super) fn enter(
    resolved: &mut Resolved,
    space: &Space,
    (plain, terms): (Option<&PlainIdentity>, &NamespaceTerms),
    from: &Provenance,
) {
    resolved.assumptions.extend(space.assumptions.iter().cloned());
    let refuse = |resolved: &mut Resolved, reason: String, from: &Provenance| {
        let class = RefusalClass::StartRefused;
        resolved.refusal.get_or_insert(Refusal { class, reason, from: from.clone(), whole_pod: false });
    };
    if let Some(reason) = &space.refusal {
        let asked = plain.and_then(|plain| plain.user_namespace.as_ref());
        refuse(resolved, reason.clone(), asked.map_or(from, |asked| &asked.from));
    }
    let Some(namespace) = &space.namespace else { return };
    let value = namespace.value.to_string();
    resolved.facts.push(IdentityFact {
        field: IdentityField::UserNamespace,
        value,
        from: namespace.from.clone(),
    });
    let kept = plain.filter(|plain| keeps_groups(plain)).and_then(|_| terms.kept_groups.clone());
    for (_, identity) in &mut resolved.possible {
        identity.namespace = namespace.value.clone();
    }
    if let Some(kept) = kept {
        keep(resolved, &kept, &namespace.value);
    }
    let first = resolved.possible.first().cloned();
    resolved.possible.retain(|(_, identity)| Credentials::of(identity).is_some());
    if resolved.possible.is_empty() {
        let ids = first.as_ref().map(|(_, identity)| format!("{}:{}", identity.uid, identity.gid));
        let ids = ids.unwrap_or_default();
        let reason =
            format!("{ids} or one of its groups has no mapping in its user namespace ({})", namespace.value);
        refuse(resolved, reason, &namespace.from);
        resolved.possible.extend(first);
    }
}

pub(super) fn keeps_groups(plain: &PlainIdentity) -> bool {
    plain.groups.iter().any(|group| matches!(&group.value, GroupName::Name(name) if name == "keep-groups"))
}

/// The host's groups of who starts the engine, as far as they have a number inside and as far as they have none.
fn keep(resolved: &mut Resolved, kept: &[u32], namespace: &UserNamespace) {
    let inside = |gid: u32| namespace.to_inside_gid(KernelGid::new(gid));
    for (_, identity) in &mut resolved.possible {
        identity.groups =
            kept.iter().filter_map(|gid| inside(*gid)).map(mivask_model::held::Held::Id).collect();
        let unmapped = kept.iter().filter(|gid| inside(**gid).is_none());
        identity.unmapped_groups = unmapped.map(|gid| KernelGid::new(*gid)).collect();
    }
    for gid in kept {
        let value = match inside(*gid) {
            Some(inside) => format!("{inside}, which is {gid} on the host"),
            None => format!("65534, which is {gid} on the host and counts as that"),
        };
        let from = Provenance::rule("keep-groups: the groups of who starts the engine");
        resolved.facts.push(IdentityFact { field: IdentityField::Group, value, from });
    }
}
