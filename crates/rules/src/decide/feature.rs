//! What the filesystem at a place can do at all.

use mivask_model::fact::Unknown;
use mivask_model::outcome::Errno;
use mivask_model::personality::{Entry, Feature, Support};

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
    let Some(errno) = refusal(walker, place, source.facts.personality.support(feature), Errno::EPERM) else {
        return Ok(());
    };
    let kind = source.facts.filesystem.as_deref().unwrap_or("this file system");
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

/// The error that the filesystem at `place` answers to what it has no support for; `otherwise` where no one can know
/// whether it has, and it is taken to refuse.
pub(super) fn refusal<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
    support: Support,
    otherwise: Errno,
) -> Option<Errno> {
    let fact = match support {
        Support::Yes => return None,
        Support::No(errno) => return Some(errno),
        Support::Unknown(fact) => fact,
    };
    let source = walker.view().source(place);
    let unknown = Unknown::new(&format!("{fact} ({})", source.facts.name), "no scene can supply it");
    let matter = fact.strip_prefix("whether ").unwrap_or(fact);
    let describe = |option: usize| [matter.to_owned(), format!("it is not so that {matter}")][option].clone();
    let question = MissingFact::Support(place.source, fact);
    (walker.witness().choose(question, &unknown, 2, describe) != 0).then_some(otherwise)
}

/// Whether the filesystem of `directory` keeps a link's target of `length` bytes.
///
/// # Errors
/// ENAMETOOLONG
pub(super) fn keeps_target<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    directory: Place,
    length: usize,
) -> Result<(), Errno> {
    let support = walker.view().source(directory).facts.personality.keeps_target(length);
    match refusal(walker, directory, support, Errno::ENAMETOOLONG) {
        None => Ok(()),
        Some(errno) => {
            let fact = "the file system keeps no target of that length";
            Err(walker.fail(Check::Feature, fact, directory, errno))
        }
    }
}

/// Whether the filesystem of `directory` lets anyone do that to it.
///
/// # Errors
/// The error it answers: EACCES or EPERM.
pub(super) fn takes<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    directory: Place,
    entry: Entry,
) -> Result<(), Errno> {
    let source = walker.view().source(directory);
    let Some(errno) = source.facts.personality.refuses(entry) else { return Ok(()) };
    let kind = source.facts.filesystem.as_deref().unwrap_or("this file system");
    let fact = match entry {
        Entry::File => "takes no new files",
        Entry::Other => "takes no new names",
        Entry::Removed | Entry::DirectoryRemoved => "lets nobody remove anything",
        Entry::Renamed => "lets nobody rename anything",
    };
    Err(walker.fail(
        Check::Feature,
        format_args!("the kernel makes what is in {kind}, which {fact}"),
        directory,
        errno,
    ))
}

/// Whether the filesystem of `directory` can be asked for a name that is not there.
///
/// # Errors
/// ENOENT
pub(super) fn nameable<W: Witness>(walker: &mut Walker<'_, '_, W>, directory: Place) -> Result<(), Errno> {
    let source = walker.view().source(directory);
    if !source.facts.personality.knows_all_names() {
        return Ok(());
    }
    let kind = source.facts.filesystem.as_deref().unwrap_or("this file system");
    let fact = format_args!("the kernel makes what is in {kind}, and no other name can be made there");
    Err(walker.fail(Check::Feature, fact, directory, Errno::ENOENT))
}
