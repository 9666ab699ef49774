//! Who a container of a pod is (facts/kubelet.md section 1; CRI as containerd 2.x does it).

use std::sync::Arc;

use super::capability_sets::{cri_set, set_in_words};
use super::{ContainerSecurity, Identity, IdentityFact, ImageFacts, Knowledge, PodSecurity, Refusal, Resolved};
use crate::accounts::{Accounts, UserLine};
use crate::caps::CapabilitySet;
use crate::fact::{Fact, Provenance, Unknown};
use crate::ids::{InsideGid, InsideUid, UNSPECIFIED_ID, UserNamespace};
use crate::mode::Mode;

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
    facts: Vec<IdentityFact>,
    assumptions: Vec<Arc<str>>,
}

/// The numbers of one possible identity.
struct Numbers {
    uid: u32,
    gid: u32,
    groups: Vec<u32>,
}

/// Resolves the identity of one container of a pod.
///
/// `image_name` is only for words. Never fails: what cannot start carries a [`Refusal`], and what
/// nobody told becomes several possible identities.
#[must_use]
pub fn kubernetes_identity(
    pod: &PodSecurity,
    container: &ContainerSecurity,
    image: &ImageFacts,
    image_name: &str,
) -> Resolved {
    let mut case = Case { pod, container, image, image_name, facts: Vec::new(), assumptions: Vec::new() };
    case.image_user();
    let user = case.user_part();
    let refusal = case.refusal(&user);
    let (possible, question, name) = case.possibilities(user);
    case.privileges(possible, question, name, refusal)
}

impl Case<'_> {
    fn fact(&mut self, field: &'static str, value: impl ToString, from: Provenance) {
        self.facts.push(IdentityFact { field, value: value.to_string(), from });
    }

    fn accounts(&self) -> Option<&Accounts> {
        match &self.image.accounts {
            Knowledge::Known(accounts) => Some(accounts),
            Knowledge::Unknown => None,
        }
    }

    fn asked_uid(&self) -> Option<&Fact<u32>> {
        self.container.run_as_user.as_ref().or(self.pod.run_as_user.as_ref())
    }

    /// Says what the image's USER is and what becomes of it.
    fn image_user(&mut self) {
        let Knowledge::Known(Some(user)) = &self.image.user else { return };
        let (written, from) = (user.value.clone(), user.from.clone());
        let part = written.split(':').next().unwrap_or_default();
        let value = if self.asked_uid().is_some() {
            format!("{written}, but runAsUser replaces it")
        } else if written.contains(':') {
            format!("{written}, of which the kubelet passes on only `{part}`")
        } else {
            written.clone()
        };
        self.fact("image user", value, from);
    }

    /// uid = container.runAsUser ?? pod.runAsUser ?? user part of the image's USER ?? 0.
    fn user_part(&self) -> UserPart {
        if let Some(asked) = self.asked_uid() {
            return UserPart::Id(asked.clone());
        }
        match &self.image.user {
            Knowledge::Unknown => UserPart::Unknown,
            Knowledge::Known(None) => UserPart::Id(Fact::new(0, Provenance::rule("the image has no USER, so root"))),
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
        if let (Some(group), None) = (&self.pod.run_as_group, &self.pod.run_as_user) {
            return Some(Refusal {
                class: "FailedCreatePodSandBox",
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

    fn non_root_refusal(&self, user: &UserPart) -> Option<Refusal> {
        let demand = self.container.run_as_non_root.as_ref().or(self.pod.run_as_non_root.as_ref())?;
        if !demand.value {
            return None;
        }
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
        Some(Refusal { class: "CreateContainerConfigError", reason, from: demand.from.clone(), whole_pod: false })
    }

    fn lookup_refusal(&self, user: &UserPart) -> Option<Refusal> {
        let UserPart::Name(name) = user else { return None };
        let accounts = self.accounts()?;
        if accounts.user_by_name(&name.value).is_some() {
            return None;
        }
        let reason = match accounts.passwd {
            Some(_) => format!("the image's USER `{}` is in no line of its passwd file", name.value),
            None => format!("the image's USER is the name `{}`, but the image has no passwd file", name.value),
        };
        Some(Refusal { class: "CreateContainerError", reason, from: name.from.clone(), whole_pod: false })
    }

    /// The possible numbers, the fact that tells them apart, and the account's name.
    fn possibilities(&mut self, user: UserPart) -> (Vec<(Arc<str>, Numbers)>, Option<Unknown>, Option<String>) {
        match user {
            UserPart::Id(uid) => {
                let line = self.accounts().and_then(|accounts| accounts.user_by_uid(uid.value));
                let line = line.map(|(line, place)| (line.clone(), place));
                self.fact("uid", uid.value, uid.from);
                self.with_account(uid.value, line)
            }
            UserPart::Name(name) => {
                let line = self.accounts().and_then(|accounts| accounts.user_by_name(&name.value));
                match line.map(|(line, place)| (line.clone(), place)) {
                    Some((line, place)) => {
                        self.fact("uid", line.uid, place.clone());
                        self.with_account(line.uid, Some((line, place)))
                    }
                    None => self.named_without_account(&name),
                }
            }
            UserPart::Unknown => self.unknown_user(),
        }
    }

    fn with_account(
        &mut self,
        uid: u32,
        line: Option<(UserLine, Provenance)>,
    ) -> (Vec<(Arc<str>, Numbers)>, Option<Unknown>, Option<String>) {
        let known = self.accounts().is_some();
        match &line {
            Some((line, place)) => self.fact("name", &line.name, place.clone()),
            None if known => self.fact("name", "none", Provenance::Rule(format!("no passwd line of {} has uid {uid}", self.image_name).into())),
            None => self.fact("name", "unknown", Provenance::Unknown(self.accounts_fact().into())),
        }
        let name = line.as_ref().map(|(line, _)| line.name.clone());
        let asked_gid = self.container.run_as_group.clone().or_else(|| self.pod.run_as_group.clone());
        let gid = match (asked_gid, &line) {
            (Some(gid), _) => Some(gid),
            (None, Some((line, place))) => Some(Fact::new(line.gid, place.clone())),
            (None, None) if known => {
                Some(Fact::new(0, Provenance::rule("no account and no runAsGroup, so group 0")))
            }
            (None, None) => None,
        };
        if !known {
            let text = format!("no group of {} lists the user as a member (its group file was not given)", self.image_name);
            self.assumptions.push(text.into());
        }
        match gid {
            Some(gid) => {
                let gid_value = gid.value;
                self.fact("gid", gid_value, gid.from);
                let groups = self.groups(Some(gid_value), name.as_deref());
                (vec![(Arc::from(""), Numbers { uid, gid: gid_value, groups })], None, name)
            }
            None => self.unknown_gid(uid),
        }
    }

    /// A known uid whose primary group hangs on an account file nobody gave. Root's is 0 in practice
    /// everywhere, so that is an assumption rather than a question.
    fn unknown_gid(&mut self, uid: u32) -> (Vec<(Arc<str>, Numbers)>, Option<Unknown>, Option<String>) {
        if uid == 0 {
            self.fact("gid", 0, Provenance::Assumption("root's primary group is 0".into()));
            self.assumptions.push("root's primary group is 0".into());
            let groups = self.groups(Some(0), None);
            return (vec![(Arc::from(""), Numbers { uid, gid: 0, groups })], None, None);
        }
        let unknown = Unknown::new(&self.accounts_fact(), &self.settle_image("accounts"));
        self.fact("gid", "0, or the account's", Provenance::Unknown(unknown.fact.clone()));
        let shared = self.groups(None, None);
        let with = |gid: u32| {
            let mut groups = shared.clone();
            groups.push(gid);
            Numbers { uid, gid, groups }
        };
        let possible = vec![
            (format!("uid {uid} has no account, so its group is 0").into(), with(0)),
            (format!("uid {uid} has an account with a primary group of its own").into(), with(UNSPECIFIED_ID)),
        ];
        (possible, Some(unknown), None)
    }

    fn unknown_user(&mut self) -> (Vec<(Arc<str>, Numbers)>, Option<Unknown>, Option<String>) {
        let unknown = Unknown::new(&format!("the user of image {}", self.image_name), &self.settle_image("user"));
        self.fact("uid", "0 or an ordinary user's", Provenance::Unknown(unknown.fact.clone()));
        let asked_gid = self.container.run_as_group.clone();
        match &asked_gid {
            Some(gid) => self.fact("gid", gid.value, gid.from.clone()),
            None => self.fact("gid", "0 or the user's", Provenance::Unknown(unknown.fact.clone())),
        }
        let text = format!("no group of {} lists the user as a member (its group file was not given)", self.image_name);
        self.assumptions.push(text.into());
        let shared = self.groups(None, None);
        let with = |uid: u32| {
            let gid = asked_gid.as_ref().map_or(uid, |gid| gid.value);
            let mut groups = shared.clone();
            groups.push(gid);
            Numbers { uid, gid, groups }
        };
        let possible = vec![
            (Arc::from("the image runs as root"), with(0)),
            (Arc::from("the image runs as an ordinary user"), with(UNSPECIFIED_ID)),
        ];
        (possible, Some(unknown), None)
    }

    fn named_without_account(&mut self, name: &Fact<String>) -> (Vec<(Arc<str>, Numbers)>, Option<Unknown>, Option<String>) {
        let unknown = Unknown::new(&self.accounts_fact(), &self.settle_image("accounts"));
        self.fact("uid", format!("that of `{}`", name.value), Provenance::Unknown(unknown.fact.clone()));
        if name.value == "root" {
            self.assumptions.push("the account `root` is uid 0, gid 0".into());
            let groups = self.groups(Some(0), None);
            return (vec![(Arc::from(""), Numbers { uid: 0, gid: 0, groups })], None, Some(name.value.clone()));
        }
        let asked_gid = self.container.run_as_group.as_ref().map(|gid| gid.value);
        let gid = asked_gid.unwrap_or(UNSPECIFIED_ID);
        let text = format!("`{}` is an ordinary account of {} that owns nothing listed here", name.value, self.image_name);
        self.assumptions.push(text.into());
        let groups = self.groups(Some(gid), None);
        (vec![(Arc::from(""), Numbers { uid: UNSPECIFIED_ID, gid, groups })], None, Some(name.value.clone()))
    }

    /// {gid} + image memberships (unless Strict) + supplementalGroups + {fsGroup}.
    fn groups(&mut self, gid: Option<u32>, user: Option<&str>) -> Vec<u32> {
        let mut found: Vec<(u32, Provenance)> = Vec::new();
        if let Some(gid) = gid {
            found.push((gid, Provenance::rule("the primary group, which the runtime lists again")));
        }
        let strict = self.pod.strict_groups.as_ref().is_some_and(|strict| strict.value);
        if let (Some(user), Some(accounts), false) = (user, self.accounts(), strict) {
            found.extend(accounts.memberships(user).map(|(line, place)| (line.gid, place)));
        }
        found.extend(self.pod.supplemental_groups.iter().map(|group| (group.value, group.from.clone())));
        found.extend(self.pod.fs_group.iter().map(|group| (group.value, group.from.clone())));
        let mut groups = Vec::new();
        for (group, from) in found {
            if !groups.contains(&group) {
                groups.push(group);
                if group != UNSPECIFIED_ID {
                    self.fact("group", group, from);
                }
            }
        }
        groups
    }

    fn privileges(
        mut self,
        possible: Vec<(Arc<str>, Numbers)>,
        question: Option<Unknown>,
        name: Option<String>,
        refusal: Option<Refusal>,
    ) -> Resolved {
        let privileged = self.container.privileged.as_ref().is_some_and(|fact| fact.value);
        let (set, ignored) = cri_set(&self.container.capabilities, privileged);
        let from = self.capability_source(privileged);
        self.fact("bounding", set_in_words(set), from);
        for name in ignored {
            let hint = name.meant.map_or(String::new(), |meant| format!("; write {}", meant.name()));
            let value = format!("{} ignored: CRI knows no such name{hint}", name.name);
            self.fact("capability", value, name.from);
        }
        let umask = self.container.umask.clone().unwrap_or_else(|| {
            Fact::new(Mode::new(0o022), Provenance::rule("the runtime's default umask"))
        });
        self.fact("umask", umask.value, umask.from.clone());
        let escalation = self.container.allow_privilege_escalation.clone();
        let no_new_privileges = escalation.as_ref().is_some_and(|allowed| !allowed.value);
        if let Some(allowed) = escalation {
            self.fact("no-new-privileges", no_new_privileges, allowed.from);
        }
        let namespace = Arc::new(UserNamespace::initial());
        let possible = possible
            .into_iter()
            .map(|(when, numbers)| {
                // A process that is not root starts without effective capabilities, whatever was added.
                let in_force = if numbers.uid == 0 { set } else { CapabilitySet::EMPTY };
                let identity = Identity {
                    uid: InsideUid::new(numbers.uid),
                    gid: InsideGid::new(numbers.gid),
                    groups: sorted(numbers.groups),
                    effective: in_force,
                    permitted: in_force,
                    bounding: set,
                    umask: umask.value,
                    no_new_privileges,
                    namespace: namespace.clone(),
                };
                (when, identity)
            })
            .collect();
        let accounts_known = self.accounts().is_some();
        Resolved { possible, question, name, accounts_known, facts: self.facts, refusal, assumptions: self.assumptions }
    }

    fn capability_source(&self, privileged: bool) -> Provenance {
        let declared = &self.container.capabilities;
        if let (true, Some(fact)) = (privileged, &self.container.privileged) {
            return fact.from.clone();
        }
        let first = declared.drop.first().or(declared.add.first());
        first.map_or_else(|| Provenance::rule("the runtime's default set"), |name| name.from.clone())
    }

    fn accounts_fact(&self) -> String {
        format!("the account files of image {}", self.image_name)
    }

    fn settle_image(&self, key: &str) -> String {
        format!("give `{key}` under `images: {{ {}: ... }}` in a scene file", self.image_name)
    }
}

fn sorted(groups: Vec<u32>) -> Vec<InsideGid> {
    let mut groups: Vec<InsideGid> = groups.into_iter().map(InsideGid::new).collect();
    groups.sort_unstable();
    groups.dedup();
    groups
}

/// A user part that is a number: decimal, an optional `+`, leading zeros, up to 2147483647.
/// The empty part is root.
pub(super) fn user_number(part: &str) -> Option<u32> {
    if part.is_empty() {
        return Some(0);
    }
    let digits = part.strip_prefix('+').unwrap_or(part);
    if digits.is_empty() || !digits.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    digits.parse::<u32>().ok().filter(|id| *id <= 2_147_483_647)
}
