//! Fields that would change answers, but that no rule here looks at yet: said, never skipped over.

use mivask_core::fact::Fact;
use mivask_core::outcome::Errno;
use mivask_core::scene::LabelAsked;
use mivask_core::unmodelled::Unmodelled;

use super::Origin;
use super::api::{PodSpec, SeLinuxOptions, SecurityContext, SecurityProfile};
use crate::diagnostic::{Diagnostics, Severity};

/// The policies that a pod or a container asks for.
#[derive(Clone, Default)]
pub(super) struct Policies {
    label: LabelAsked,
    apparmor: Option<Unmodelled>,
    seccomp: Option<Unmodelled>,
}

impl Policies {
    fn read(
        selinux: Option<&SeLinuxOptions>,
        (apparmor, seccomp): (Option<&SecurityProfile>, Option<&SecurityProfile>),
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
        let own = |profile: Option<&SecurityProfile>, noun: &str| {
            let file = profile.filter(|profile| profile.type_ == "Localhost")?.localhost_profile.as_deref();
            Some(format!("the {noun} profile {}", file.unwrap_or("of the node").escape_debug()))
        };
        Self {
            label,
            apparmor: own(apparmor, "AppArmor")
                .map(|name| unmodelled("appArmorProfile", &name, Errno::EACCES)),
            seccomp: own(seccomp, "seccomp").map(|name| unmodelled("seccompProfile", &name, Errno::EPERM)),
        }
    }

    /// The label of a container, and of its pod where it says nothing itself.
    pub(super) fn label_over(&self, pod: &Self, container: &SecurityContext) -> LabelAsked {
        let own = container.se_linux_options.is_some();
        let asked = if own { self.label.clone() } else { pod.label.clone() };
        LabelAsked { unsettled: pod.label.unsettled.clone(), ..asked }
    }

    /// What else a container asks for, or its pod where it says nothing itself.
    pub(super) fn over(self, pod: &Self, container: &SecurityContext) -> Vec<Unmodelled> {
        let pick = |own: Option<Unmodelled>, said: bool, of_pod: &Option<Unmodelled>| {
            if said { own } else { of_pod.clone() }
        };
        let all = [
            pick(self.apparmor, container.app_armor_profile.is_some(), &pod.apparmor),
            pick(self.seccomp, container.seccomp_profile.is_some(), &pod.seccomp),
        ];
        all.into_iter().flatten().collect()
    }
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
