//! `--selinux` and `--apparmor`: what both do on the host.

use std::path::Path;
use std::sync::{Arc, OnceLock};

use mivask_core::fact::Provenance;
use mivask_core::scene::{Scene, Selinux, SelinuxMode};
use mivask_read::files::Disk;
use mivask_read::policies::{KERNEL, PolicyProblem, apparmor_here, policy, selinux_here};

use crate::end::{CommandError, Failure};
use crate::options::{ApparmorWord, Facts};
use crate::starter::LIVE;

/// A policy that cannot be used.
#[derive(Debug, thiserror::Error)]
#[error("{message}{help}", message = .0.message, help = .0.help.map(|help| format!("; {help}")).unwrap_or_default())]
struct Unusable(PolicyProblem);

impl CommandError for Unusable {}

/// Adds both to `scene`, in place of what that says.
pub(crate) fn add(scene: &mut Scene, facts: &Facts) -> Result<(), Failure> {
    // Descriptions come one after the other, and a policy has megabytes.
    static GIVEN: OnceLock<Result<Selinux, PolicyProblem>> = OnceLock::new();
    if let Some(given) = &facts.selinux {
        let told = GIVEN.get_or_init(|| selinux(given));
        scene.host.selinux = Some(told.clone().map_err(Unusable)?);
    }
    if let Some(word) = facts.apparmor {
        scene.host.apparmor = Some(match word {
            ApparmorWord::Live => apparmor_here(&Disk, Path::new(KERNEL)),
            ApparmorWord::Enabled => true,
            ApparmorWord::Disabled => false,
        });
    }
    Ok(())
}

/// Adds what both do on this machine, as to what runs here. A policy that may not be read is one that is not known.
pub(crate) fn here(scene: &mut Scene) {
    let from = Provenance::Source(Arc::from("/sys/fs/selinux"));
    let unknown = Selinux { mode: SelinuxMode::Enforcing, policy: None, from: from.clone() };
    scene.host.selinux = Some(selinux_here(&Disk, Path::new(KERNEL), from).unwrap_or(unknown));
    scene.host.apparmor = Some(apparmor_here(&Disk, Path::new(KERNEL)));
}

fn selinux(given: &str) -> Result<Selinux, PolicyProblem> {
    let from = Provenance::Source(Arc::from(format!("--selinux {given}")));
    let plain = |mode| Ok(Selinux { mode, policy: None, from: from.clone() });
    match given {
        LIVE => selinux_here(&Disk, Path::new(KERNEL), from),
        "disabled" => plain(SelinuxMode::Disabled),
        "permissive" => plain(SelinuxMode::Permissive),
        "enforcing" => plain(SelinuxMode::Enforcing),
        path => {
            let policy = Some(Arc::new(policy(&Disk, Path::new(path))?));
            Ok(Selinux { mode: SelinuxMode::Enforcing, policy, from })
        }
    }
}
