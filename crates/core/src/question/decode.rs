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
    /// Bits that the change sets.
    pub sets: Mode,
    /// Bits that it clears.
    pub clears: Mode,
    /// What to know about the change.
    pub remarks: Vec<&'static str>,
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
        sets: after.without(mode),
        clears: mode.without(after),
        remarks: change.map(|change| remarks(change, (mode, after), directory)).unwrap_or_default(),
        concerns: concerns(after, kind),
        created: umasks.into_iter().map(under).collect(),
    }
}

/// The modes that people use, from the closest to the widest, each with what it is usual for.
pub fn common_modes() -> impl Iterator<Item = (Mode, &'static str)> {
    Mode::common().map(|mode| (mode, purpose(mode)))
}

const fn purpose(mode: Mode) -> &'static str {
    match mode.bits() {
        0o400 | 0o600 => "keys and other secrets of one user",
        0o440 | 0o640 => "configuration that a group reads",
        0o444 => "data that nobody changes",
        0o644 => "files that everyone reads",
        0o660 => "files of a group",
        0o664 => "files of a group that everyone reads",
        0o666 => "open to everyone: rarely what is wanted",
        0o700 => "directories and programs of one user",
        0o711 => "directories to pass through, not to list",
        0o750 => "directories and programs of a group",
        0o755 => "directories and programs for everyone",
        0o770 => "directories that a group writes",
        0o775 => "the same, and everyone lists them",
        0o777 => "open to everyone: rarely what is wanted",
        0o1777 => "shared directories for temporary files",
        0o2770 => "directories of a group whose files get that group",
        0o2775 => "the same, and everyone lists them",
        _ => "",
    }
}

/// What to know about a change of a mode from one to the other.
fn remarks(change: &ModeChange, (before, after): (Mode, Mode), directory: bool) -> Vec<&'static str> {
    let mut all = Vec::new();
    // As if nothing was masked: what a clause without a class would do to every class.
    if change.counts_umask() && change.applied_to(before, directory, Mode::default()) != after {
        all.push(
            "no class is named, so bits that the umask masks stay as they are: `a` before the sign means all",
        );
    }
    if change.spreads_execute() && !directory {
        all.push("X gives x to files that some class may run already, and to directories");
    }
    let set_group_id = before.has(Mode::SET_GROUP_ID) && !after.has(Mode::SET_GROUP_ID);
    if directory && set_group_id && matches!(change, ModeChange::Exact(_)) {
        all.push("the system call takes set-group-ID away; some implementations of chmod keep it on a directory unless five digits (00755) or g-s are written");
    }
    all
}
