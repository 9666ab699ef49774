//! The filesystem-group step (docs/facts/kubelet.md section 7).

use std::sync::Arc;

use mivask_model::fact::Provenance;
use mivask_model::ids::DiskGid;
use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{InodeId, Marks, Tree};

/// What the step adds to every file and every directory.
#[derive(Clone, Copy, Debug)]
pub(super) struct Masks {
    file: Mode,
    directory: Mode,
}

impl Masks {
    /// For volumes that can be written.
    pub(super) const WRITABLE: Self = Self { file: Mode::new(0o660), directory: Mode::new(0o2770) };
    /// For volumes made of API objects, which count as read-only.
    pub(super) const READ_ONLY: Self = Self { file: Mode::new(0o440), directory: Mode::new(0o2550) };
}

/// The step on the part of a tree below `top`.
#[derive(Clone, Copy, Debug)]
pub(super) struct GroupStep<'a> {
    pub top: InodeId,
    pub group: u32,
    pub policy: Policy,
    pub masks: Masks,
    pub from: &'a Provenance,
}

/// What the step did.
#[derive(Debug, Default)]
pub(super) struct StepReport {
    /// Inodes whose group or mode changed.
    pub touched: usize,
    /// What happened, for people.
    pub note: Option<Arc<str>>,
}

/// Whether a matching root stops the walk.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Policy {
    /// `Always`
    Always,
    /// `OnRootMismatch`: skipped iff the root has the group, all of 0770 and set-group-id.
    OnRootMismatch,
}

impl Policy {
    /// `Always` is what the API fills in where the field is missing.
    pub(super) const fn of(on_root_mismatch: bool) -> Self {
        if on_root_mismatch { Self::OnRootMismatch } else { Self::Always }
    }
}

/// Gives every inode but links to the group: files `| 0660`, directories `| 02770`. Owners stay, nothing is
/// removed, and what the kernel refuses to change (immutable, append-only) stays as it is.
pub(super) fn apply(tree: &mut Tree, step: &GroupStep<'_>) -> StepReport {
    let gid = DiskGid::new(step.group);
    let root = tree.inode(step.top);
    let matches = root.stored_owner().gid == gid && root.stored_mode().has(step.masks.directory);
    if step.policy == Policy::OnRootMismatch && matches {
        let left =
            tree.below(step.top).into_iter().filter(|id| after(tree, *id, gid, step.masks).is_some()).count();
        let stay = if left == 1 {
            "1 inode stays as it is".to_owned()
        } else {
            format!("{left} inodes stay as they are")
        };
        let note = format!("OnRootMismatch: the root matches, so the walk is skipped and {stay}");
        return StepReport { touched: 0, note: Some(note.into()) };
    }
    let mut touched = 0;
    for id in tree.below(step.top) {
        if let Some(mode) = after(tree, id, gid, step.masks) {
            tree.regroup(id, gid, mode, Some(step.from.clone()));
            touched += 1;
        }
    }
    let note = format!(
        "the kubelet gives the volume to group {}: files | 0{:o}, directories | 0{:o}",
        step.group,
        step.masks.file.bits(),
        step.masks.directory.bits()
    );
    StepReport { touched, note: Some(note.into()) }
}

/// The mode an inode gets, or `None` where the step leaves it alone.
fn after(tree: &Tree, id: InodeId, gid: DiskGid, masks: Masks) -> Option<Mode> {
    let inode = tree.inode(id);
    let unknown = tree.doubt(id).is_some_and(|doubt| doubt.unknown_attribute().is_some());
    let kept = inode.marks.has(Marks::IMMUTABLE) || inode.marks.has(Marks::APPEND_ONLY);
    let bits = match inode.kind {
        FileKind::Link => return None,
        FileKind::Directory => masks.directory,
        FileKind::File | FileKind::Fifo | FileKind::Socket | FileKind::CharDevice | FileKind::BlockDevice => {
            masks.file
        }
    };
    let mode = inode.stored_mode().with(bits);
    (!kept && !unknown && (mode != inode.stored_mode() || inode.stored_owner().gid != gid)).then_some(mode)
}

#[cfg(test)]
mod tests {
    use super::*;
    use mivask_model::tree::Entry;

    fn volume(root: Entry) -> Tree {
        Tree::new(root, Provenance::rule("test"))
    }

    fn step(tree: &mut Tree, policy: Policy) -> usize {
        let from = &Provenance::rule("test");
        apply(tree, &GroupStep { top: Tree::ROOT, group: 7000, policy, masks: Masks::WRITABLE, from }).touched
    }

    macro_rules! walked {
        ($($name:ident: $entry:expr => $mode:literal;)+) => {$(
            #[test]
            fn $name() {
                let mut tree = volume(Entry::directory(0, 0, 0o755));
                let id = tree.add(Tree::ROOT, b"x", $entry).unwrap();
                step(&mut tree, Policy::Always);
                assert_eq!((tree.inode(id).stored_owner().gid.raw(), tree.inode(id).stored_mode()), (7000, Mode::new($mode)));
            }
        )+};
    }

    // The rows of docs/facts/kubelet.md 7.1.
    walked! {
        a_closed_key_opens_to_the_group: Entry::file(405, 1001, 0o400) => 0o660;
        a_readable_file_becomes_writable: Entry::file(405, 1001, 0o444) => 0o664;
        an_open_file_keeps_other: Entry::file(405, 1001, 0o644) => 0o664;
        a_program_keeps_its_x: Entry::file(405, 1001, 0o755) => 0o775;
        only_x_gains_rw: Entry::file(405, 1001, 0o111) => 0o771;
        set_user_id_is_kept: Entry::file(405, 1001, 0o4755) => 0o4775;
        a_closed_directory_opens: Entry::directory(405, 1001, 0o000) => 0o2770;
        a_sticky_directory_stays_sticky: Entry::directory(0, 0, 0o1777) => 0o3777;
        a_fifo_is_treated_as_a_file: Entry::new(FileKind::Fifo, 0, 0, Mode::new(0o644)) => 0o664;
    }

    #[test]
    fn links_and_what_is_immutable_stay() {
        let mut tree = volume(Entry::directory(0, 7000, 0o2770));
        tree.add(Tree::ROOT, b"l", Entry::new(FileKind::Link, 0, 0, Mode::new(0o777))).unwrap();
        let mut kept = Entry::file(0, 0, 0o600);
        kept.marks = Marks::IMMUTABLE;
        tree.add(Tree::ROOT, b"k", kept).unwrap();
        assert_eq!(step(&mut tree, Policy::Always), 0);
    }

    macro_rules! mismatch {
        ($($name:ident: $gid:literal $mode:literal => $walked:literal;)+) => {$(
            #[test]
            fn $name() {
                let mut tree = volume(Entry::directory(405, $gid, $mode));
                tree.add(Tree::ROOT, b"x", Entry::file(405, 1001, 0o600)).unwrap();
                assert_eq!(step(&mut tree, Policy::OnRootMismatch) > 0, $walked);
            }
        )+};
    }

    // The rows of docs/facts/kubelet.md 7.2.
    mismatch! {
        matching_2775: 7000 0o2775 => false;
        matching_2770: 7000 0o2770 => false;
        matching_3770: 7000 0o3770 => false;
        no_setgid: 7000 0o775 => true;
        other_group: 1001 0o2775 => true;
        group_without_w: 7000 0o2755 => true;
        owner_without_rwx: 7000 0o2070 => true;
    }
}
