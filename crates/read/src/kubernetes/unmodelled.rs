//! Fields that would change answers, but that no rule here looks at yet: said, never skipped over.

use super::Origin;
use super::api::{PodSpec, SecurityContext};
use crate::diagnostic::{Diagnostics, Severity};

const SELINUX: &str = "SELinux is not modelled: it may deny what is allowed here";
const APPARMOR: &str = "this AppArmor profile is not modelled: it may deny what is allowed here";

/// Fields of the pod; `origin` is at its spec.
pub(super) fn pod(spec: &PodSpec, origin: &Origin<'_>, diagnostics: &mut Diagnostics) {
    let Some(context) = &spec.security_context else { return };
    if context.se_linux_options.is_some() {
        origin.diagnostic(Severity::Note, "securityContext.seLinuxOptions", SELINUX, None, diagnostics);
    }
    if context.app_armor_profile.as_ref().is_some_and(|profile| profile.type_ == "Localhost") {
        origin.diagnostic(Severity::Note, "securityContext.appArmorProfile", APPARMOR, None, diagnostics);
    }
}

/// Fields of a container, and those the API refuses together; `origin` is at the container. `own_users` says
/// whether the pod has a user namespace of its own.
pub(super) fn container(
    context: &SecurityContext,
    own_users: bool,
    origin: &Origin<'_>,
    diagnostics: &mut Diagnostics,
) {
    if context.proc_mount.as_deref() == Some("Unmasked") && !own_users {
        let message = "the API refuses `procMount: Unmasked` without `hostUsers: false`";
        origin.diagnostic(Severity::Error, "securityContext.procMount", message, None, diagnostics);
    }
    if context.se_linux_options.is_some() {
        origin.diagnostic(Severity::Note, "securityContext.seLinuxOptions", SELINUX, None, diagnostics);
    }
    if context.app_armor_profile.as_ref().is_some_and(|profile| profile.type_ == "Localhost") {
        origin.diagnostic(Severity::Note, "securityContext.appArmorProfile", APPARMOR, None, diagnostics);
    }
    if context.allow_privilege_escalation != Some(false) {
        return;
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
}
