//! 9p, virtiofs and other shares of a host: the kernel here checks what is shown, then the server decides too.

use super::{Feature, Support};

/// A share of which the scene tells the owners and modes that are shown.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct Remote;

pub(super) const fn support(feature: Feature) -> Support {
    match feature {
        Feature::Links | Feature::HardLinks | Feature::Nodes => {
            Support::Unknown("whether the server offers links and special files")
        }
        Feature::Owners | Feature::Modes => Support::Unknown("whether the server keeps owners and modes"),
        Feature::Attributes | Feature::Acls => {
            Support::Unknown("whether the server keeps extended attributes")
        }
    }
}
