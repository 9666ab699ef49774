//! People on the host: accounts of its own, who see its files.

use std::sync::Arc;

use mivask_model::caps::CapabilitySet;
use mivask_model::credentials::Credentials;
use mivask_model::fact::{Fact, Provenance};
use mivask_model::ids::InsideUid;
use mivask_model::mount::MountTable;

use super::host_actor;
use super::selinux::{self, Confinement};
use crate::identity::{
    IdentityFact, IdentityField, ImageFacts, Knowledge, NamespaceTerms, PlainIdentity, Resolved,
};
use crate::identity::{plain_identity, set_in_words};
use crate::runtime::Runtime;
use crate::scene::{Container, Scene, Who};
use crate::stage::Actor;

/// The person whom `container` describes, before the host's `mounts`.
pub(super) fn actor(scene: &Scene, container: &Container, mounts: MountTable, name: Arc<str>) -> Actor {
    let asked = match &container.who {
        Who::Plain(plain) => (**plain).clone(),
        Who::Kubernetes(_) | Who::Process(_) | Who::Running(_) => PlainIdentity::default(),
    };
    let identity = identity(scene, &asked);
    let credentials =
        identity.possible.iter().filter_map(|(_, identity)| Credentials::of(identity)).collect();
    let Confinement { confined, unmodelled, .. } = selinux::of_person(scene, &container.name);
    Actor {
        confined,
        unmodelled: unmodelled.into_iter().collect(),
        name,
        container: container.name.as_str().into(),
        credentials,
        identity,
        all_devices: true,
        from: container.from.clone(),
        ..host_actor::actor(mounts)
    }
}

/// The actor that `user` of the host is in the place of root there.
pub(super) fn guest(scene: &Scene, mounts: MountTable, user: &str, name: Arc<str>) -> Actor {
    let user = Fact::new(user.to_owned(), Provenance::rule("who is to act on the host"));
    let asked = PlainIdentity { user: Some(user.clone()), ..PlainIdentity::default() };
    let identity = identity(scene, &asked);
    let credentials =
        identity.possible.iter().filter_map(|(_, identity)| Credentials::of(identity)).collect();
    let Confinement { confined, unmodelled, .. } = selinux::of_person(scene, user.value.as_str());
    let unmodelled = unmodelled.into_iter().collect();
    Actor { name, credentials, identity, confined, unmodelled, guest: true, ..host_actor::actor(mounts) }
}

/// Who `asked` is by the host's own account files, after a login (initgroups(3)).
fn identity(scene: &Scene, asked: &PlainIdentity) -> Resolved {
    let accounts = scene.host.accounts.clone().map_or(Knowledge::Unknown, Knowledge::Known);
    let facts = ImageFacts { accounts, ..ImageFacts::default() };
    let mut resolved =
        plain_identity(asked, &facts, "the host", Runtime::Bare.profile(), &NamespaceTerms::default());
    for (_, identity) in &mut resolved.possible {
        let all = if identity.uid.is(InsideUid::new(0)) { CapabilitySet::ALL } else { CapabilitySet::EMPTY };
        (identity.effective, identity.permitted, identity.bounding) = (all, all, CapabilitySet::ALL);
    }
    let settled = resolved.possible.iter().all(|(_, identity)| identity.uid.is(InsideUid::new(0)));
    if settled {
        let value = set_in_words(CapabilitySet::ALL);
        let from = Provenance::rule("root on the host");
        resolved.facts.push(IdentityFact { field: IdentityField::Effective, value, from });
    }
    in_words_of_the_host(&mut resolved);
    resolved
}

/// The rules of identity speak of images.
fn in_words_of_the_host(resolved: &mut Resolved) {
    let put = |text: &str| {
        text.replace("image the host", "the host")
            .replace("of the image", "of the host")
            .replace("the image's", "the host's")
            .replace("the runtime's default umask", "the usual umask")
            .replace("`accounts` for the image", "`host: { accounts: ... }`")
    };
    for text in &mut resolved.assumptions {
        *text = put(text).into();
    }
    if let Some(refusal) = &mut resolved.refusal {
        refusal.reason = put(&refusal.reason);
    }
    for fact in &mut resolved.facts {
        if let Provenance::Rule(text) = &fact.from {
            fact.from = Provenance::rule(&put(text));
        }
    }
    if let Some(question) = &mut resolved.question {
        question.fact = put(&question.fact).into();
        question.settle = put(&question.settle).into();
    }
}
