//! What a mode lets each class do, in words, and what is odd about it.

use super::{Access, FileKind, Mode};

/// The three classes, in the order the kernel picks the first that fits (`acl_permission_check`).
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Class {
    /// Whoever has the file's user id.
    Owner,
    /// Whoever has the file's group, as primary or supplementary, and not its user id.
    Group,
    /// Everyone else.
    Others,
}

impl Class {
    /// All three.
    pub const ALL: [Self; 3] = [Self::Owner, Self::Group, Self::Others];

    /// The word in answers.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Owner => "owner",
            Self::Group => "group",
            Self::Others => "others",
        }
    }

    /// What `mode` grants it.
    #[must_use]
    pub const fn of(self, mode: Mode) -> Access {
        match self {
            Self::Owner => mode.owner(),
            Self::Group => mode.group(),
            Self::Others => mode.other(),
        }
    }
}

/// What three bits let a class do to a file of `kind`, as far as it gets there (path_resolution(7), inode(7)).
#[must_use]
pub const fn power(access: Access, kind: FileKind) -> &'static str {
    let r = access.grants(Access::READ);
    let w = access.grants(Access::WRITE);
    let x = access.grants(Access::EXECUTE);
    if matches!(kind, FileKind::Directory) {
        return match (r, w, x) {
            (true, true, true) => "lists and enters it, creates, renames and removes entries",
            (true, false, true) => "lists and enters it",
            (false, true, true) => {
                "enters it, creates, renames and removes entries whose names it knows; cannot list"
            }
            (false, false, true) => "enters it and reaches entries whose names it knows; cannot list",
            (true, true, false) => {
                "sees names alone: without x nothing in it is reached, and w has no effect"
            }
            (true, false, false) => "sees names alone: without x nothing in it is reached",
            (false, true, false) => "nothing: w has no effect without x",
            (false, false, false) => "nothing",
        };
    }
    if matches!(kind, FileKind::Link) {
        return "follows it: a link's own bits are never looked at";
    }
    let runs = matches!(kind, FileKind::File) && x;
    match (r, w, runs) {
        (true, true, true) => "reads, changes and runs it",
        (true, true, false) => "reads and changes it",
        (true, false, true) => "reads and runs it",
        (true, false, false) => "reads it",
        (false, true, true) => "changes it, and runs it if it is a program: a script needs r too",
        (false, true, false) => "changes it without reading it",
        (false, false, true) => "runs it if it is a program: a script needs r too",
        (false, false, false) => "nothing",
    }
}

/// Something about a mode that is worth a word: a special bit, or what is often not meant.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Concern {
    /// `S` in the owner's place: set-user-id on a file no one's owner may run.
    SetUserIdWithoutExecute,
    /// `S` in the group's place of a file.
    SetGroupIdWithoutExecute,
    /// `S` in the group's place of a directory.
    SetGroupIdUnentered,
    /// `T`: sticky without x for others, on a directory.
    StickyUnentered,
    /// Set-group-id on a directory that its group enters.
    PassesGroup,
    /// Sticky on a directory that others enter.
    Sticky,
    /// Set-user-id on a directory: Linux ignores it.
    SetUserIdDirectory,
    /// Sticky on a file: Linux ignores it.
    StickyFile,
    /// A program that runs as its owner.
    RunsAsOwner,
    /// A program that runs with its group.
    RunsAsGroup,
    /// Everyone writes it.
    OpenToAll,
    /// Everyone removes everyone's entries.
    OpenWithoutSticky,
    /// r without x on a directory for some class.
    ListedNotEntered,
    /// The owner may less than others.
    OwnerBelow,
    /// The group may less than others.
    GroupBelow,
}

impl Concern {
    /// What it means, a sentence.
    #[must_use]
    pub const fn text(self) -> &'static str {
        match self {
            Self::SetUserIdWithoutExecute => {
                "S for the owner: set-user-id is set and the owner's x is missing; likely x was forgotten (u+xs) or s left over (u-s)"
            }
            Self::SetGroupIdWithoutExecute => {
                "S for the group: set-group-id is set and the group's x is missing, so running it never changes the group (g+xs or g-s)"
            }
            Self::SetGroupIdUnentered => {
                "S for the group: entries still inherit the group, yet its members cannot enter (g+x)"
            }
            Self::StickyUnentered => {
                "T for others: the sticky bit is set and others cannot enter, so it protects entries from the group alone"
            }
            Self::PassesGroup => "set-group-id: new entries get its group, and new directories the bit too",
            Self::Sticky => {
                "sticky: only an entry's owner, the directory's owner and FOWNER remove or rename entries"
            }
            Self::SetUserIdDirectory => {
                "set-user-id has no effect on a directory: entries do not inherit an owner"
            }
            Self::StickyFile => "the sticky bit has no effect on a file",
            Self::RunsAsOwner => {
                "setuid: whoever runs it acts as its owner, unless nosuid or no-new-privileges; on a script (#!) it does nothing"
            }
            Self::RunsAsGroup => {
                "setgid: whoever runs it acts with its group, unless nosuid or no-new-privileges; on a script (#!) it does nothing"
            }
            Self::OpenToAll => "everyone who reaches it can change it",
            Self::OpenWithoutSticky => {
                "everyone who reaches it can create entries and, without the sticky bit, remove everyone else's (+t)"
            }
            Self::ListedNotEntered => "r without x: names can be listed, nothing in it can be opened",
            Self::OwnerBelow => {
                "the owner may less than others may: the first class that fits decides, so the owner is kept out"
            }
            Self::GroupBelow => {
                "the group may less than others may: the first class that fits decides, so members are kept out"
            }
        }
    }
}

/// Everything worth a word about `mode` on a file of `kind`.
#[must_use]
pub fn concerns(mode: Mode, kind: FileKind) -> Vec<Concern> {
    let directory = kind == FileKind::Directory;
    if kind == FileKind::Link {
        return Vec::new();
    }
    let runs = |class: Class| class.of(mode).grants(Access::EXECUTE);
    let suid = mode.has(Mode::SET_USER_ID);
    let sgid = mode.has(Mode::SET_GROUP_ID);
    let sticky = mode.has(Mode::STICKY);
    let others_write = mode.other().grants(if directory { Access::WRITE_EXECUTE } else { Access::WRITE });
    let listed = |class: &Class| {
        let access = class.of(mode);
        access.grants(Access::READ) && !access.grants(Access::EXECUTE)
    };
    let below = |class: Class| !class.of(mode).grants(mode.other());
    let checks = [
        (Concern::SetUserIdWithoutExecute, suid && !directory && !runs(Class::Owner)),
        (Concern::SetGroupIdWithoutExecute, sgid && !directory && !runs(Class::Group)),
        (Concern::SetGroupIdUnentered, sgid && directory && !runs(Class::Group)),
        (Concern::StickyUnentered, sticky && directory && !runs(Class::Others)),
        (Concern::PassesGroup, sgid && directory && runs(Class::Group)),
        (Concern::Sticky, sticky && directory && runs(Class::Others)),
        (Concern::SetUserIdDirectory, suid && directory),
        (Concern::StickyFile, sticky && !directory),
        (Concern::RunsAsOwner, suid && !directory && runs(Class::Owner)),
        (Concern::RunsAsGroup, sgid && !directory && runs(Class::Group)),
        (Concern::OpenToAll, others_write && !directory),
        (Concern::OpenWithoutSticky, others_write && directory && !sticky),
        (Concern::ListedNotEntered, directory && Class::ALL.iter().any(listed)),
        (Concern::OwnerBelow, below(Class::Owner)),
        (Concern::GroupBelow, below(Class::Group)),
    ];
    checks.into_iter().filter(|(_, found)| *found).map(|(concern, _)| concern).collect()
}

/// What a file or directory gets that is asked for with `mode` under `umask`, in a directory without set-group-id and
/// default ACL (`vfs_prepare_mode`): mkdir takes the nine bits and sticky only.
#[must_use]
pub const fn created(mode: Mode, kind: FileKind, umask: Mode) -> Mode {
    let asked = if matches!(kind, FileKind::Directory) { mode.masked(Mode::new(0o1777)) } else { mode };
    asked.without(umask.masked(Mode::new(0o777)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_odd_is_found_and_nothing_else() {
        use Concern as C;
        let rows: [(u16, FileKind, &[Concern]); 16] = [
            (0o644, FileKind::File, &[]),
            (0o755, FileKind::Directory, &[]),
            (0o2775, FileKind::Directory, &[C::PassesGroup]),
            (0o1777, FileKind::Directory, &[C::Sticky]),
            (0o4755, FileKind::File, &[C::RunsAsOwner]),
            (0o4644, FileKind::File, &[C::SetUserIdWithoutExecute]),
            (0o2644, FileKind::File, &[C::SetGroupIdWithoutExecute]),
            (0o2755, FileKind::File, &[C::RunsAsGroup]),
            (0o2740, FileKind::Directory, &[C::SetGroupIdUnentered, C::ListedNotEntered]),
            (0o1770, FileKind::Directory, &[C::StickyUnentered]),
            (0o4755, FileKind::Directory, &[C::SetUserIdDirectory]),
            (0o1644, FileKind::File, &[C::StickyFile]),
            (0o666, FileKind::File, &[C::OpenToAll]),
            (0o777, FileKind::Directory, &[C::OpenWithoutSticky]),
            (0o606, FileKind::File, &[C::OpenToAll, C::GroupBelow]),
            (0o077, FileKind::Directory, &[C::OpenWithoutSticky, C::OwnerBelow]),
        ];
        for (mode, kind, expected) in rows {
            assert_eq!(concerns(Mode::new(mode), kind), expected, "{mode:o} {}", kind.word());
        }
    }

    #[test]
    fn a_umask_takes_bits_and_mkdir_set_ids() {
        let made = |mode, kind, umask| created(Mode::new(mode), kind, Mode::new(umask)).bits();
        assert_eq!(made(0o666, FileKind::File, 0o022), 0o644);
        assert_eq!(made(0o2777, FileKind::Directory, 0o002), 0o775);
        assert_eq!(made(0o4755, FileKind::File, 0o077), 0o4700);
    }

    #[test]
    fn w_without_x_gives_nothing_in_a_directory() {
        assert_eq!(power(Access::WRITE, FileKind::Directory), "nothing: w has no effect without x");
        assert_eq!(power(Access::NONE, FileKind::File), "nothing");
        assert_eq!(power(Access::EXECUTE, FileKind::Fifo), "nothing");
    }
}
