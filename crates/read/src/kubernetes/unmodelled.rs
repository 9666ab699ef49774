//! Fields that would change answers, but that no rule here looks at yet: said, never skipped over.

use mivask_core::fact::Fact;
use mivask_core::outcome::Errno;
use mivask_core::scene::{LabelAsked, ProfileAsked};
use mivask_core::unmodelled::Unmodelled;

use super::Origin;
use super::api::{PodSpec, SeLinuxOptions, SecurityContext, SecurityProfile};
use crate::diagnostic::{Diagnostics, Severity};

/// The policies that a pod or a container asks for.
#[derive(Clone, Default)]
pub(super) struct Policies {
    label: LabelAsked,
    apparmor: ProfileAsked,
    seccomp: Option<Unmodelled>,
}

impl Policies {
    fn read(
        selinux: Option<&SeLinuxOptions>,
        (profile, seccomp): (Option<&SecurityProfile>, Option<&SecurityProfile>),
        origin: &Origin<'_>,
        diagnostics: &mut Diagnostics,
    ) -> Self {
        let label = selinux.map(|options| label(options, origin)).unwrap_or_default();
        let mut unmodelled = |key: &str, name: &str, errno| {
            let field = format!("securityContext.{key}");
            let message = format!("{name} is not modelled: it may refuse what all else permits");
            origin.diagnostic(Severity::Note, &field, message, None, diagnostics);
            Unmodelled::policy(name, errno, origin.place(&field, &field))
        };
        let own = |profile: Option<&SecurityProfile>| {
            let file = profile.filter(|profile| profile.type_ == "Localhost")?.localhost_profile.clone();
            Some(file.unwrap_or_else(|| "of the node".to_owned()))
        };
        let seccomp = own(seccomp).map(|name| {
            let name = format!("the seccomp profile {}", name.escape_debug());
            unmodelled("seccompProfile", &name, Errno::EPERM)
        });
        Self { label, apparmor: apparmor(profile, own(profile), origin, diagnostics), seccomp }
    }

    /// The label of a container, and of its pod where it says nothing itself.
    pub(super) fn label_over(&self, pod: &Self, container: &SecurityContext) -> LabelAsked {
        let own = container.se_linux_options.is_some();
        let asked = if own { self.label.clone() } else { pod.label.clone() };
        LabelAsked { unsettled: pod.label.unsettled.clone(), ..asked }
    }

    /// What else a container asks for, or its pod where it says nothing itself.
    pub(super) fn over(self, pod: &Self, container: &SecurityContext) -> Vec<Unmodelled> {
        let own = container.seccomp_profile.is_some();
        let asked = if own { self.seccomp } else { pod.seccomp.clone() };
        asked.into_iter().collect()
    }

    /// The AppArmor profile of the container `name`: its own field, an annotation, or the field of its pod.
    pub(super) fn apparmor_over(
        &self,
        pod: &Self,
        (name, annotated): (&str, &[(String, ProfileAsked)]),
        container: &SecurityContext,
    ) -> ProfileAsked {
        if container.app_armor_profile.is_some() {
            return self.apparmor.clone();
        }
        let annotated = annotated.iter().find(|(of, _)| of == name);
        annotated.map_or_else(|| pod.apparmor.clone(), |(_, profile)| profile.clone())
    }
}

/// `appArmorProfile`; `own` is the name of one of the node's.
fn apparmor(
    profile: Option<&SecurityProfile>,
    own: Option<String>,
    origin: &Origin<'_>,
    diagnostics: &mut Diagnostics,
) -> ProfileAsked {
    const FIELD: &str = "securityContext.appArmorProfile";
    if let Some(name) = own {
        let message = format!("what the AppArmor profile {} permits is not known", name.escape_debug());
        origin.diagnostic(Severity::Note, FIELD, message, None, diagnostics);
        return ProfileAsked::Own(Fact::new(name, origin.place(FIELD, FIELD)));
    }
    let unconfined = profile.is_some_and(|profile| profile.type_ == "Unconfined");
    if unconfined { ProfileAsked::Unconfined } else { ProfileAsked::Engine }
}

/// `seLinuxOptions`.
fn label(options: &SeLinuxOptions, origin: &Origin<'_>) -> LabelAsked {
    const FIELD: &str = "securityContext.seLinuxOptions";
    let words = "SELinux with these `seLinuxOptions`";
    let part = |key: &str, given: &Option<String>| {
        let field = format!("{FIELD}.{key}");
        let given = given.as_ref().filter(|given| !given.is_empty())?;
        Some(Fact::new(given.clone(), origin.place(&field, &field)))
    };
    LabelAsked {
        user: part("user", &options.user),
        role: part("role", &options.role),
        type_: part("type", &options.type_),
        level: part("level", &options.level),
        words: Some(Fact::new(words.to_owned(), origin.place(FIELD, FIELD))),
        ..LabelAsked::default()
    }
}

/// Fields of the pod; `origin` is at its spec.
pub(super) fn pod(spec: &PodSpec, origin: &Origin<'_>, diagnostics: &mut Diagnostics) -> Policies {
    let of_host = [("hostIPC", spec.host_ipc), ("hostPID", spec.host_pid)];
    for (key, _) in of_host.into_iter().filter(|(_, given)| *given == Some(true)) {
        if spec.host_users == Some(false) {
            let message = format!("the API refuses `{key}: true` beside `hostUsers: false`");
            origin.diagnostic(Severity::Error, key, message, None, diagnostics);
        }
    }
    let mut policies = match &spec.security_context {
        Some(context) => {
            let profiles = (context.app_armor_profile.as_ref(), context.seccomp_profile.as_ref());
            Policies::read(context.se_linux_options.as_ref(), profiles, origin, diagnostics)
        }
        None => Policies::default(),
    };
    policies.label.unsettled = (spec.host_pid == Some(true)).then(|| origin.place("hostPID", "hostPID"));
    policies
}

/// Fields of a container, and those the API refuses together; `origin` is at the container. `own_users` says
/// whether the pod has a user namespace of its own.
pub(super) fn container(
    context: &SecurityContext,
    own_users: bool,
    origin: &Origin<'_>,
    diagnostics: &mut Diagnostics,
) -> Policies {
    if context.proc_mount.as_deref() == Some("Unmasked") && !own_users {
        let message = "the API refuses `procMount: Unmasked` without `hostUsers: false`";
        origin.diagnostic(Severity::Error, "securityContext.procMount", message, None, diagnostics);
    }
    let profiles = (context.app_armor_profile.as_ref(), context.seccomp_profile.as_ref());
    let policies = Policies::read(context.se_linux_options.as_ref(), profiles, origin, diagnostics);
    if context.allow_privilege_escalation != Some(false) {
        return policies;
    }
    let field = "securityContext.allowPrivilegeEscalation";
    if context.privileged == Some(true) {
        let message = "the API refuses `allowPrivilegeEscalation: false` on a privileged container";
        origin.diagnostic(Severity::Error, field, message, None, diagnostics);
    }
    let added = context.capabilities.iter().flat_map(|capabilities| &capabilities.add);
    if added.into_iter().any(|name| name == "CAP_SYS_ADMIN") {
        let message = "the API refuses `allowPrivilegeEscalation: false` beside an added CAP_SYS_ADMIN";
        origin.diagnostic(Severity::Error, field, message, None, diagnostics);
    }
    policies
}
