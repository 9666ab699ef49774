//! Whether somebody who is not root gets to what is to be bound.

use mivask_model::act::quoted;
use mivask_model::fact::{Fact, Provenance};
use mivask_model::mount::{Mount, MountTable};
use mivask_model::mount_kind::MountKind;
use mivask_model::outcome::Errno;
use mivask_model::refusal::RefusalClass;
use mivask_model::unmodelled::Unmodelled;
use mivask_rules::view::{Devices, View};
use mivask_rules::walk::{Follow, Walker};
use mivask_rules::witness::Unwatched;

use super::container_mounts::ContainerMounts;
use super::prepared::Prepared;
use super::rights::credentials;
use crate::namespace::Starter;
use crate::runtime::Flavour;

impl ContainerMounts<'_> {
    /// An engine without root looks at the source of a bind as who starts it, with capabilities over what its namespace maps.
    pub(super) fn starter_reaches(&mut self, volume: &Prepared, from: &Provenance) {
        let (Some(starter), _) = self.context.starter_of() else { return };
        let Some(path) = volume.host_path.clone() else { return };
        if self.context.workload.flavour == Flavour::Scene {
            return;
        }
        let who = starter.word();
        match self.walked(starter, &path) {
            Some(Some(errno)) => {
                let reason = format!("{who} may not get to {} on the host: {errno}", quoted(&path));
                self.stop(RefusalClass::StartRefused, reason, from.clone());
            }
            Some(None) => {}
            None => {
                let text = format!("{who} may enter the directories above {} on the host", quoted(&path));
                self.assumptions.push(text.into());
            }
        }
    }

    /// The overlay of `O` is mounted in the engine's namespace: what lies below it with an owner that is not mapped there is not copied
    /// up when it is changed (`ovl_copy_up`, EOVERFLOW). The top of it is.
    pub(super) fn lower_of_nobody(&mut self, volume: &Prepared, at: &Fact<Vec<u8>>) {
        let (Some(starter), _) = self.context.starter_of() else { return };
        let Some(root) = volume.root else { return };
        let tree = &self.stage.source(volume.variants[0].source).tree;
        let met = tree.below(root).into_iter().filter(|id| *id != root).any(|id| {
            let owner = tree.inode(id).stored_owner();
            starter.namespace.uids.backward(owner.uid.raw()).is_none()
                || starter.namespace.gids.backward(owner.gid.raw()).is_none()
        });
        if met {
            let name = format!("the overlay at {}, below which owners are not mapped", quoted(&at.value));
            self.unmodelled.push(Unmodelled::policy(&name, Errno::EOVERFLOW, at.from.clone()));
        }
    }

    /// The errno that keeps `starter` from `path`, if any; `None` where what is known of the host does not tell.
    #[expect(clippy::option_option, reason = "no errno and not known differ")]
    fn walked(&self, starter: &Starter, path: &[u8]) -> Option<Option<Errno>> {
        let mut table = MountTable::default();
        table.push(Mount::root(self.context.host?, MountKind::Host, Provenance::rule("the host")));
        let credentials = credentials(starter);
        let mut unwatched = Unwatched::default();
        let view = View::new(&self.stage.storage, &table, &credentials, "the engine", Devices::Listed);
        let arrived = Walker::new(&view, &mut unwatched).arrive(path, Follow::Links);
        if unwatched.met_unknown || unwatched.assumed {
            return None;
        }
        Some(arrived.err().filter(|errno| *errno == Errno::EACCES))
    }
}
