//! The AppArmor profile of a container.

use mivask_model::outcome::Errno;
use mivask_model::unmodelled::Unmodelled;
use mivask_rules::profile::Profile;

use super::context::Context;
use crate::runtime::Flavour;
use crate::scene::{Container, ProfileAsked};

/// The profile that its engine gives `container`, or what stands for one of its own, whose rules nobody gave.
pub(super) fn of(context: &Context<'_>, container: &Container) -> (Option<Profile>, Option<Unmodelled>) {
    let host = context.scene.host.apparmor;
    // An engine without root may load no profile, so that Docker and Podman give none.
    if host == Some(false) || context.starter_of().0.is_some() || container.of_user.is_some() {
        return (None, None);
    }
    match (&container.apparmor, context.workload.flavour) {
        (ProfileAsked::Own(name), _) => {
            let words = format!("the AppArmor profile {}", name.value.escape_debug());
            (None, Some(Unmodelled::policy(&words, Errno::EACCES, name.from.clone())))
        }
        (ProfileAsked::Unconfined, _) | (ProfileAsked::Engine, Flavour::Scene | Flavour::Bundle) => {
            (None, None)
        }
        (ProfileAsked::Engine, Flavour::Pod | Flavour::Compose) if container.privileged => (None, None),
        (ProfileAsked::Engine, Flavour::Pod | Flavour::Compose) | (ProfileAsked::Default, _) => {
            (Some(if host == Some(true) { Profile::Default } else { Profile::Perhaps }), None)
        }
    }
}
