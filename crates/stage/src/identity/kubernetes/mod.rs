//! Who a container of a pod is (docs/facts/kubelet.md section 1; CRI as containerd 2.x does it).

mod numbers;
mod privileges;

use std::sync::Arc;

use mivask_model::accounts::Accounts;
use mivask_model::fact::{Fact, Provenance};
use mivask_model::refusal::RefusalClass;

use super::{ContainerSecurity, IdentityFact, ImageFacts, Knowledge, PodSecurity, Refusal, Resolved};
use crate::identity::IdentityField;
use crate::runtime::Profile;

/// The user part as the kubelet passes it on.
enum UserPart {
    Id(Fact<u32>),
    Name(Fact<String>),
    Unknown,
}

struct Case<'a> {
    pod: &'a PodSecurity,
    container: &'a ContainerSecurity,
    image: &'a ImageFacts,
    image_name: &'a str,
    profile: &'a Profile,
    facts: Vec<IdentityFact>,
    assumptions: Vec<Arc<str>>,
}

/// Resolves the identity of one container of a pod.
///
/// `image_name` is only for words. Never fails: what cannot start carries a [`Refusal`], and what
/// is not given becomes several possible identities.
#[must_use]
pub fn kubernetes_identity(
    pod: &PodSecurity,
    container: &ContainerSecurity,
    image: &ImageFacts,
    image_name: &str,
    profile: &Profile,
) -> Resolved {
    let mut case =
        Case { pod, container, image, image_name, profile, facts: Vec::new(), assumptions: Vec::new() };
    case.assumptions.extend(profile.caveat.map(Arc::from));
    case.image_user();
    let user = case.user_part();
    let refusal = case.refusal(&user);
    let possibilities = case.possibilities(user);
    case.privileges(possibilities, refusal)
}

impl Case<'_> {
    fn fact(&mut self, field: IdentityField, value: impl ToString, from: Provenance) {
        self.facts.push(IdentityFact { field, value: value.to_string(), from });
    }

    fn accounts(&self) -> Option<&Accounts> {
        self.image.accounts.known()
    }

    fn asked_uid(&self) -> Option<&Fact<u32>> {
        self.container.run_as_user.as_ref().or(self.pod.run_as_user.as_ref())
    }

    /// Says what the image's USER is and what becomes of it.
    fn image_user(&mut self) {
        let Knowledge::Known(Some(user)) = &self.image.user else {
            return;
        };
        let written = user.value.clone();
        let from = user.from.clone();
        let part = written.split(':').next().unwrap_or_default();
        let value = if self.asked_uid().is_some() {
            format!("{written}, but runAsUser replaces it")
        } else if written.contains(':') {
            format!("{written}, of which the kubelet passes on only `{part}`")
        } else {
            written.clone()
        };
        self.fact(IdentityField::ImageUser, value, from);
    }

    /// uid = container.runAsUser ?? pod.runAsUser ?? user part of the image's USER ?? 0.
    fn user_part(&self) -> UserPart {
        if let Some(asked) = self.asked_uid() {
            return UserPart::Id(asked.clone());
        }
        match &self.image.user {
            Knowledge::Unknown => UserPart::Unknown,
            Knowledge::Known(None) => {
                UserPart::Id(Fact::new(0, Provenance::rule("the image has no USER, so root")))
            }
            Knowledge::Known(Some(user)) => {
                let part = user.value.split(':').next().unwrap_or_default();
                match user_number(part) {
                    Some(uid) => UserPart::Id(Fact::new(uid, user.from.clone())),
                    None => UserPart::Name(Fact::new(part.to_owned(), user.from.clone())),
                }
            }
        }
    }

    fn refusal(&self, user: &UserPart) -> Option<Refusal> {
        // The sandbox is made first, so its refusal is the one that is seen.
        let refuses = self.profile.identity.refuses_group_without_user;
        if let (Some(group), None, true) = (&self.pod.run_as_group, &self.pod.run_as_user, refuses) {
            return Some(Refusal {
                class: RefusalClass::FailedCreatePodSandBox,
                reason: format!(
                    "the pod sets runAsGroup {} without runAsUser at pod level: containerd refuses the sandbox, so no container of the pod starts",
                    group.value
                ),
                from: group.from.clone(),
                whole_pod: true,
            });
        }
        self.non_root_refusal(user).or_else(|| self.lookup_refusal(user))
    }

    /// `runAsNonRoot: true`, the container's over the pod's.
    fn non_root_demand(&self) -> Option<&Fact<bool>> {
        let given = self.container.run_as_non_root.as_ref().or(self.pod.run_as_non_root.as_ref());
        given.filter(|given| given.value)
    }

    fn must_not_be_root(&self) -> bool {
        self.non_root_demand().is_some()
    }

    fn non_root_refusal(&self, user: &UserPart) -> Option<Refusal> {
        let demand = self.non_root_demand()?;
        let reason = match user {
            UserPart::Id(uid) if uid.value == 0 => match self.asked_uid() {
                Some(_) => "runAsNonRoot is set, but runAsUser is 0".to_owned(),
                None => "runAsNonRoot is set, but the image runs as root".to_owned(),
            },
            UserPart::Name(name) => format!(
                "runAsNonRoot is set, but the image's USER is the name `{}`, which the kubelet cannot verify: set runAsUser to its number",
                name.value
            ),
            UserPart::Id(_) | UserPart::Unknown => return None,
        };
        Some(Refusal {
            class: RefusalClass::CreateContainerConfigError,
            reason,
            from: demand.from.clone(),
            whole_pod: false,
        })
    }

    fn lookup_refusal(&self, user: &UserPart) -> Option<Refusal> {
        let UserPart::Name(name) = user else {
            return None;
        };
        let accounts = self.accounts()?;
        if accounts.user_by_name(&name.value).is_some() || accounts.incomplete.is_some() {
            return None;
        }
        let reason = match accounts.passwd {
            Some(_) => format!("the image's USER `{}` is in no line of its passwd file", name.value),
            None => {
                format!("the image's USER is the name `{}`, but the image has no passwd file", name.value)
            }
        };
        Some(Refusal {
            class: RefusalClass::CreateContainerError,
            reason,
            from: name.from.clone(),
            whole_pod: false,
        })
    }
}

/// Whether a user or group part is a number that no runtime takes: negative or above 2147483647.
pub(in crate::identity) fn out_of_range(part: &str) -> bool {
    part.parse::<i128>().is_ok() && user_number(part).is_none()
}

/// A user part that is a number: decimal, an optional `+`, leading zeros, up to 2147483647.
/// The empty part is root.
pub(in crate::identity) fn user_number(part: &str) -> Option<u32> {
    if part.is_empty() {
        return Some(0);
    }
    let digits = part.strip_prefix('+').unwrap_or(part);
    if digits.is_empty() || !digits.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    digits.parse::<u32>().ok().filter(|id| *id <= 2_147_483_647)
}
