//! What the filesystem at a place can do at all.

use mivask_model::fact::Unknown;
use mivask_model::outcome::Errno;
use mivask_model::personality::{Feature, Support};

use crate::trace::Check;
use crate::view::Place;
use crate::walk::Walker;
use crate::witness::{MissingFact, Witness};

/// Whether the filesystem at `place` has `feature`.
///
/// # Errors
/// The error it answers; EPERM where no one can know and it is taken to refuse.
pub(super) fn supports<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
    feature: Feature,
) -> Result<(), Errno> {
    let source = walker.view().source(place);
    let errno = match source.personality.support(feature) {
        Support::Yes => return Ok(()),
        Support::No(errno) => errno,
        Support::Unknown(fact) => {
            let unknown = Unknown::new(&format!("{fact} ({})", source.name), "no scene can supply it");
            let describe = |option: usize| ["it does", "it does not"][option].to_owned();
            let question = MissingFact::Support(place.source, feature);
            if walker.witness().choose(question, &unknown, 2, describe) == 0 {
                return Ok(());
            }
            Errno::EPERM
        }
    };
    let kind = source.filesystem.as_deref().unwrap_or("this file system");
    let what = match feature {
        Feature::Links => "symbolic links",
        Feature::HardLinks => "hard links",
        Feature::Nodes => "fifos, sockets and devices",
        Feature::Owners => "owners",
        Feature::Modes => "modes",
        Feature::Attributes => "extended attributes",
        Feature::Acls => "ACLs",
    };
    Err(walker.fail(Check::Feature, format_args!("{kind} keeps no {what}"), place, errno))
}
