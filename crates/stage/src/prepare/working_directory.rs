//! The working directory of a container.

use mivask_model::act::quoted;
use mivask_model::mode::FileKind;
use mivask_model::path::cleaned;
use mivask_model::refusal::RefusalClass;
use mivask_model::tree::Certainty;
use mivask_rules::view::Place;

use super::container_mounts::ContainerMounts;
use super::mount_point::find_or_make;

impl ContainerMounts<'_> {
    /// Docker makes it in the image before anything is mounted, as root's whatever the directory above says.
    pub(super) fn working_directory_of_image(&mut self) {
        let own = self.container.working_directory.as_ref();
        let image = self.image.and_then(|image| image.working_directory.as_ref());
        let Some(path) = own.or(image).filter(|_| self.profile().owns_working_directory) else { return };
        let mut maker = self.maker();
        maker.directory &= 0o777;
        (maker.owner, maker.owner_above) = (Some(self.creator), Some(self.creator));
        // What keeps it from being made keeps the container from starting, and is said where it is looked for.
        let _said_later =
            find_or_make(self.stage, &self.mounts, &cleaned(&path.value), FileKind::Directory, &maker);
    }

    /// A working directory that is missing is made, by root or by no one.
    pub(super) fn working_directory(&mut self) {
        let own = self.container.working_directory.as_ref();
        let image = self.image.and_then(|image| image.working_directory.as_ref());
        let Some(path) = own.or(image) else { return };
        if own.is_some() && path.value.first() != Some(&b'/') && !self.profile().takes_relative_directory {
            let reason = format!("the working directory {} is not an absolute path", quoted(&path.value));
            return self.stop(RefusalClass::StartRefused, reason, path.from.clone());
        }
        let absolute =
            [if path.value.first() == Some(&b'/') { "" } else { "/" }.as_bytes(), &path.value].concat();
        let mut maker = self.maker();
        // It gets plain permission bits, whatever mount points get.
        maker.directory &= 0o777;
        if !self.profile().makes_working_directory && self.is_missing_in_image(&absolute) {
            if own.is_some() {
                let reason =
                    format!("the working directory {} does not exist in the container", quoted(&path.value));
                return self.stop(RefusalClass::StartRefused, reason, path.from.clone());
            }
            // It is looked for on the host behind a link that begins at the root, and so is not found to be given away.
            maker.owner = self.process.filter(|_| !self.leads_to_the_host(&absolute));
        }
        let shown = quoted(&path.value);
        let reason = match find_or_make(self.stage, &self.mounts, &absolute, FileKind::Directory, &maker) {
            Ok(made) if self.is_no_directory(made.place) => {
                format!("the working directory {shown} is no directory")
            }
            Ok(_) => return,
            Err(reason) => format!("the working directory {shown} cannot be made: {reason}"),
        };
        self.stop(RefusalClass::StartError, reason, path.from.clone());
    }

    /// Whether something else than a directory is known to be there.
    fn is_no_directory(&self, place: Place) -> bool {
        let tree = &self.stage.source(place.source).tree;
        let unsure = |id| tree.doubt(id).is_some_and(|doubt| doubt.kind != Certainty::Known);
        place.inode.is_some_and(|id| tree.inode(id).kind != FileKind::Directory && !unsure(id))
    }
}
