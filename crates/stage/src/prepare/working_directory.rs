//! The working directory of a container.

use mivask_model::act::quoted;
use mivask_model::mode::FileKind;
use mivask_model::refusal::RefusalClass;
use mivask_model::tree::Certainty;
use mivask_rules::view::Place;

use super::container_mounts::ContainerMounts;
use super::mount_point::find_or_make;

impl ContainerMounts<'_> {
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
            maker.owner = self.process;
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
