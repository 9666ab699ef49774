//! Annotations that say what fields say since.

use mivask_core::fact::Fact;
use mivask_core::scene::ProfileAsked;

use super::Origin;
use crate::diagnostic::{Diagnostics, Severity};
use crate::yaml::Value;

/// In front of the name of a container.
const PROFILE: &str = "container.apparmor.security.beta.kubernetes.io/";

/// The AppArmor profiles that the annotations at `way` give containers; a container's own field comes before them
/// (`applyAppArmorVersionSkew`).
pub(super) fn profiles(
    origin: &Origin<'_>,
    way: &str,
    diagnostics: &mut Diagnostics,
) -> Vec<(String, ProfileAsked)> {
    let Some(Value::Mapping(pairs)) = origin.node.find(way).map(|node| &node.value) else {
        return Vec::new();
    };
    let mut all = Vec::new();
    for (key, value) in pairs {
        let Some(container) = key.text().and_then(|key| key.strip_prefix(PROFILE)) else { continue };
        let here = Origin { node: value, source: origin.source };
        let profile = match value.text().unwrap_or_default() {
            "runtime/default" => ProfileAsked::Engine,
            "unconfined" => ProfileAsked::Unconfined,
            other => match other.strip_prefix("localhost/").filter(|name| !name.is_empty()) {
                Some(name) => {
                    let shown = name.escape_debug();
                    let message = format!("what the AppArmor profile {shown} permits is not known");
                    here.diagnostic(Severity::Note, "", message, None, diagnostics);
                    ProfileAsked::Own(Fact::new(name.to_owned(), here.place("", "metadata.annotations")))
                }
                None => {
                    let message = format!("the API knows no AppArmor profile `{}`", other.escape_debug());
                    let help = "write runtime/default, unconfined or localhost/NAME".to_owned();
                    here.diagnostic(Severity::Error, "", message, Some(help), diagnostics);
                    continue;
                }
            },
        };
        all.push((container.to_owned(), profile));
    }
    all
}
