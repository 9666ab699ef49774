//! ntfs3: what other systems wrote shows one owner and mode; what Linux writes may carry its own, in
//! extended attributes (fs/ntfs3/xattr.c), so changes depend on facts no one has here.

use super::masks::Masks;
use super::{Feature, OptionError, Shown, Support};
use crate::outcome::Errno;

/// Its options.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct Ntfs {
    masks: Masks,
}

impl Ntfs {
    pub(super) fn option(&mut self, key: &str, value: Option<&str>) -> Result<bool, OptionError> {
        let harmless = matches!(key, "iocharset" | "discard" | "hidden" | "sparse" | "prealloc");
        Ok(harmless || self.masks.option(key, value)?)
    }

    pub(super) const fn shown(&self) -> Shown {
        self.masks.shown()
    }
}

pub(super) const fn support(feature: Feature) -> Support {
    match feature {
        Feature::Links | Feature::HardLinks | Feature::Nodes => Support::Yes,
        Feature::Owners | Feature::Modes => {
            Support::Unknown("whether ntfs3 keeps Linux owners and modes on this volume")
        }
        Feature::Attributes => Support::Yes,
        Feature::Acls => Support::No(Errno::EOPNOTSUPP),
    }
}
