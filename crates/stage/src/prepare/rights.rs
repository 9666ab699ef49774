//! What an engine without root may do on the host.

use std::sync::Arc;

use mivask_model::act::Verb;
use mivask_model::caps::CapabilitySet;
use mivask_model::credentials::Credentials;
use mivask_model::held::Held;
use mivask_model::ids::{KernelGid, KernelUid};
use mivask_model::mode::Mode;
use mivask_model::mount::MountTable;
use mivask_model::outcome::Errno;
use mivask_rules::decide::decide;
use mivask_rules::lookup::{Sight, look, root_credentials};
use mivask_rules::view::{Devices, View};
use mivask_rules::walk::Follow;
use mivask_rules::witness::Unwatched;

use crate::namespace::Starter;
use crate::stage::Stage;

/// Root of the engine's namespace, with the groups of who starts it.
pub(super) fn credentials(starter: &Starter) -> Credentials {
    let groups: Vec<KernelGid> = starter.groups.iter().map(|gid| KernelGid::new(*gid)).collect();
    Credentials {
        fsuid: Held::Id(KernelUid::new(starter.uid)),
        fsgid: Held::Id(KernelGid::new(starter.gid)),
        groups: groups.into(),
        effective: CapabilitySet::ALL,
        permitted: CapabilitySet::ALL,
        namespace: Arc::clone(&starter.namespace),
        ..root_credentials()
    }
}

/// The errno that keeps `starter` from making the first directory of `path` that is missing; `None` where nothing is known to.
pub(super) fn may_not_make(
    stage: &Stage,
    table: &MountTable,
    starter: &Starter,
    path: &[u8],
) -> Option<Errno> {
    let ends = path.iter().enumerate().skip(1).filter(|(_, byte)| **byte == b'/').map(|(end, _)| end);
    let missing = ends
        .chain([path.len()])
        .map(|end| &path[..end])
        .find(|prefix| matches!(look(&stage.storage, table, prefix, Follow::Links), Ok(Sight::Missing)))?;
    let credentials = credentials(starter);
    let view = View::new(&stage.storage, table, &credentials, "the engine", Devices::Listed);
    let mut unwatched = Unwatched::default();
    let refused = decide(&view, &Verb::MakesDirectory(Mode::new(0o755)), missing, &mut unwatched).err();
    refused.filter(|_| !unwatched.met_unknown)
}
