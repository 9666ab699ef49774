//! What is at a path, whoever asks: root with every capability, for whom nothing is unknown but unlisted.

use std::sync::Arc;

use mivask_model::caps::CapabilitySet;
use mivask_model::credentials::Credentials;
use mivask_model::fact::Unknown;
use mivask_model::held::Held;
use mivask_model::ids::{KernelGid, KernelUid, UserNamespace};
use mivask_model::mode::Mode;
use mivask_model::mount::MountTable;
use mivask_model::outcome::Errno;
use mivask_model::storage::Storage;
use mivask_model::usual::Usual;

use crate::label::label_of;
pub use crate::label::{Obstacle, obstacle};
use crate::trace::Step;
use crate::view::{Devices, Place, View};
use crate::walk::{Follow, Last, Target, Walker};
use crate::witness::{MissingFact, Witness};

/// Takes what is not listed for missing, and remembers that it did.
#[derive(Debug, Default)]
pub struct AllSeeing {
    met_unlisted: bool,
}

impl Witness for AllSeeing {
    const TRACING: bool = false;
    const ALL_SEEING: bool = true;

    fn step(&mut self, _: impl FnOnce() -> Step) {}

    fn assume(&mut self, _: impl FnOnce() -> Arc<str>) {}

    fn choose_usually(
        &mut self,
        question: MissingFact,
        _: &Unknown,
        _: usize,
        _: (impl FnOnce() -> Option<(Usual, usize)>, impl Fn(usize) -> String),
    ) -> usize {
        let unlisted = matches!(question, MissingFact::Exists(_));
        self.met_unlisted |= unlisted;
        usize::from(unlisted)
    }
}

/// Root on the host with every capability.
pub fn root_credentials() -> Credentials {
    Credentials {
        real: None,
        fsuid: Held::Id(KernelUid::new(0)),
        fsgid: Held::Id(KernelGid::new(0)),
        groups: Arc::default(),
        effective: CapabilitySet::ALL,
        permitted: CapabilitySet::ALL,
        bounding: CapabilitySet::ALL,
        inheritable: CapabilitySet::EMPTY,
        ambient: CapabilitySet::EMPTY,
        umask: Mode::new(0o022),
        no_new_privileges: false,
        namespace: Arc::new(UserNamespace::initial()),
    }
}

/// The label of what is at `place`, in words: `None` where SELinux does not decide, `Some(None)` where nobody told the label.
#[must_use]
pub fn label_at(view: &View<'_>, place: Place) -> Option<Option<String>> {
    let confined = view.confined?;
    Some(label_of(view, confined, place).map(|label| confined.text(&label)))
}

/// What someone who may look everywhere finds at a path.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Sight {
    /// An inode.
    There(Place),
    /// Nothing, for certain.
    Missing,
    /// Nothing that anyone listed; something may be there.
    Unlisted,
}

/// Where a path ends, whoever asks.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct End {
    /// The directory that holds the last component.
    pub directory: Place,
    /// The last name in it; `None` for `/`, `.` and `..`.
    pub name: Option<Vec<u8>>,
    /// What is there.
    pub sight: Sight,
}

/// Walks to the end of `path`.
///
/// # Errors
/// What keeps even root from walking there, such as ENOTDIR or ELOOP; ENOENT where a directory on the way is missing.
pub fn walk(storage: &Storage, table: &MountTable, path: &[u8], follow: Follow) -> Result<End, Errno> {
    let root = root_credentials();
    let view = View::new(storage, table, &root, "nobody in particular", Devices::Listed);
    let mut all_seeing = AllSeeing::default();
    let arrival = Walker::new(&view, &mut all_seeing).arrive(path, follow)?;
    let sight = match arrival.target {
        Target::There(place) => Sight::There(place),
        Target::Missing if all_seeing.met_unlisted => Sight::Unlisted,
        Target::Missing => Sight::Missing,
    };
    let name = if let Last::Name(name, _) = arrival.last { Some(name.to_vec()) } else { None };
    Ok(End { directory: arrival.directory, name, sight })
}

/// What is at `path`.
///
/// # Errors
/// What keeps even root from walking there, such as ENOTDIR or ELOOP; that nothing is there is no error.
pub fn look(storage: &Storage, table: &MountTable, path: &[u8], follow: Follow) -> Result<Sight, Errno> {
    let root = root_credentials();
    let view = View::new(storage, table, &root, "nobody in particular", Devices::Listed);
    let mut all_seeing = AllSeeing::default();
    let arrival = Walker::new(&view, &mut all_seeing).arrive(path, follow);
    match arrival.map(|arrival| arrival.target) {
        Ok(Target::There(place)) => Ok(Sight::There(place)),
        Ok(Target::Missing) | Err(Errno::ENOENT) if all_seeing.met_unlisted => Ok(Sight::Unlisted),
        Ok(Target::Missing) | Err(Errno::ENOENT) => Ok(Sight::Missing),
        Err(errno) => Err(errno),
    }
}
