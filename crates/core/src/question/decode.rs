//! What a mode says, and what a change or a umask makes of it.

use mivask_model::mode::{Concern, FileKind, Mode, ModeChange, concerns, created};

/// Umasks that are shown where no one names one: the usual one, a shared group's, a closed one.
const USUAL_UMASKS: [Mode; 4] = [Mode::new(0o002), Mode::new(0o022), Mode::new(0o027), Mode::new(0o077)];

/// One mode on one kind of file.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Decoded {
    /// A file, a directory, or whatever else was named.
    pub kind: FileKind,
    /// The mode that was written.
    pub before: Mode,
    /// The same after the change; equal where there is none.
    pub mode: Mode,
    /// What is odd about it.
    pub concerns: Vec<Concern>,
    /// What an inode gets that is created with `mode`, per umask.
    pub created: Vec<(Mode, Mode)>,
}

/// Decodes `mode` on a file of `kind`, after `change`. `umask` counts where a clause names no class (0022 where no one
/// names one), and for what is created.
#[must_use]
pub fn decode(mode: Mode, kind: FileKind, change: Option<&ModeChange>, umask: Option<Mode>) -> Decoded {
    let filter = umask.unwrap_or(Mode::new(0o022));
    let directory = kind == FileKind::Directory;
    let after = change.map_or(mode, |change| change.applied_to(mode, directory, filter));
    let umasks = umask.map_or_else(|| USUAL_UMASKS.to_vec(), |umask| vec![umask]);
    let under = |umask| (umask, created(after, kind, umask));
    Decoded {
        kind,
        before: mode,
        mode: after,
        concerns: concerns(after, kind),
        created: umasks.into_iter().map(under).collect(),
    }
}
