//! What a missing fact usually is, where an inode or a name is asked about.

use mivask_model::fact::Unknown;
use mivask_model::ids::DiskOwner;
use mivask_model::mode::Mode;
use mivask_model::usual::{Usual, UsualRule, image_directories};

use crate::usual::Answer;
use crate::view::{Owner, Place, View};

/// The mode of the directory at `path` of an image, where it is one that every image has.
fn standard(path: &[u8]) -> Option<Mode> {
    image_directories().find(|(known, _)| known.as_bytes() == path).map(|(_, mode)| mode)
}

/// What is usual of an image's directory at `path`; only an image's own tree at the root is laid out so.
fn of_image(view: &View<'_>, place: Place, path: &[u8], usual: &Usual) -> Option<(Usual, Mode)> {
    let at_root = usual.rule == UsualRule::ImageDirectory && *view.mount(place.mount).facts.at == *b"/";
    let mode = standard(path).filter(|_| at_root)?;
    let shown = String::from_utf8_lossy(path);
    Some((Usual::new(usual.rule, &format!("{}{shown} is there, 0:0 {mode}", usual.says)), mode))
}

/// Owner, group and mode of what is at `place`, where `unknown` is what nobody knows of it.
pub(crate) fn attributes(
    view: &View<'_>,
    place: Place,
    path: &[u8],
    unknown: &Unknown,
) -> Option<(Usual, Owner, Mode)> {
    let (usual, owner, mode) = stored(view, place, path, unknown)?;
    Some((usual, view.kernel_owner(place, owner), mode))
}

/// The same as it is on the disk.
pub(crate) fn stored(
    view: &View<'_>,
    place: Place,
    path: &[u8],
    unknown: &Unknown,
) -> Option<(Usual, DiskOwner, Mode)> {
    let usual = unknown.usual.as_deref()?;
    match usual.rule {
        UsualRule::NewClaim => {
            let (owner, mode) = usual.leaves?;
            Some((usual.clone(), owner, mode))
        }
        UsualRule::ImageDirectory => {
            let (usual, mode) = of_image(view, place, path, usual)?;
            Some((usual, DiskOwner::new(0, 0), mode))
        }
        UsualRule::GroupApplied | UsualRule::NewName | UsualRule::MountIsDirectory | UsualRule::Starts => {
            None
        }
    }
}

/// What a name is expected to be, where an act tells.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Expected {
    /// Whatever the act needs.
    Anything,
    /// Something to be made.
    New,
    /// A directory: others follow it, or it is listed.
    Directory,
}

/// Whether something is at `path`, below `directory`.
pub(crate) fn existence(
    view: &View<'_>,
    directory: Place,
    path: &[u8],
    unknown: &Unknown,
    last: Expected,
) -> Answer {
    const THERE: usize = 0;
    const MISSING: usize = 1;
    if let Some(usual) = unknown.usual.as_deref() {
        if usual.rule == UsualRule::NewClaim {
            return Some((usual.clone(), MISSING));
        }
        if last != Expected::Anything
            && let Some((usual, _)) = of_image(view, directory, path, usual)
        {
            return Some((usual, THERE));
        }
    }
    let says = || format!("{} is not there yet", String::from_utf8_lossy(path));
    (last == Expected::New).then(|| (Usual::new(UsualRule::NewName, &says()), MISSING))
}

#[cfg(test)]
mod tests {
    use super::standard;

    #[test]
    fn only_directories_that_every_image_has_are_standard() {
        assert!(standard(b"/var/tmp").is_some() && standard(b"/etc").is_some());
        // Of 0700 in some images and 0550 in others; a service's own; a file.
        assert!(standard(b"/root").is_none() && standard(b"/var/lib/db").is_none());
        assert!(standard(b"/etc/passwd").is_none());
    }
}
