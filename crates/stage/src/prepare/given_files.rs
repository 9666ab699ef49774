//! Files that are copied into a container before it starts (Compose's `injectSecrets` and `injectConfigs`).

use std::sync::Arc;

use mivask_model::fact::Provenance;
use mivask_model::ids::{DiskOwner, InsideGid, InsideUid, KernelOwner};
use mivask_model::mode::FileKind;
use mivask_model::refusal::RefusalClass;
use mivask_model::tree::Certainty;

use super::container_mounts::ContainerMounts;
use super::mount_point::find_or_make;
use super::space::user_namespace;
use crate::scene::GivenFile;

impl ContainerMounts<'_> {
    /// Puts them where they go: in the image's root, or in the volume that is mounted there.
    pub(super) fn given_files(&mut self) {
        let container = self.container;
        for file in &container.files {
            self.given_file(file);
        }
    }

    fn given_file(&mut self, file: &GivenFile) {
        let namespace = user_namespace(self.context, self.container);
        let outside = |file: &GivenFile| match &namespace {
            None => Some(KernelOwner::new(file.uid, file.gid)),
            Some(namespace) => Some(KernelOwner {
                uid: namespace.value.to_kernel_uid(InsideUid::new(file.uid))?,
                gid: namespace.value.to_kernel_gid(InsideGid::new(file.gid))?,
            }),
        };
        let mut maker = self.maker();
        (maker.above_file, maker.file) = (0o755, file.mode.bits());
        maker.owner = outside(file);
        maker.rule = "Compose copies it into the container";
        let made = match find_or_make(self.stage, &self.mounts, &file.at.value, FileKind::File, &maker) {
            Ok(made) => made.place,
            Err(reason) => {
                let reason =
                    format!("{} cannot be put there: {reason}", String::from_utf8_lossy(&file.at.value));
                return self.stop(RefusalClass::StartRefused, reason, file.at.from.clone());
            }
        };
        let (Some(inode), Some(owner)) = (made.inode, maker.owner) else { return };
        // One that is there already is replaced.
        let ids = &self.mounts.get(made.mount).facts.ids;
        let (Some(uid), Some(gid)) = (ids.to_disk_uid(owner.uid), ids.to_disk_gid(owner.gid)) else { return };
        let tree = Arc::make_mut(&mut self.stage.storage.source_mut(made.source).tree);
        if tree.inode(inode).kind != FileKind::Directory {
            tree.own(inode, DiskOwner { uid, gid }, file.mode, Provenance::rule(maker.rule));
            tree.doubt_owner_and_mode(inode, Certainty::Known, Certainty::Known);
        }
    }
}
