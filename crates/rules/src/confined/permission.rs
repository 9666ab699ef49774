//! The permissions that acts on files need, by the policy's names (security/selinux/include/classmap.h).

use mivask_model::mode::FileKind;

macro_rules! permissions {
    ($($(#[$doc:meta])* $name:ident $word:literal),+ $(,)?) => {
        /// A permission of a class: of files, but for the last ones.
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
        pub enum Permission { $($(#[$doc])* $name),+ }

        impl Permission {
            /// Every one.
            pub const ALL: &'static [Self] = &[$(Self::$name),+];

            /// The policy's name for it.
            #[must_use]
            pub const fn word(self) -> &'static str {
                match self { $(Self::$name => $word),+ }
            }
        }
    };
}

permissions! {
    /// Reading, and reading a link's target.
    Read "read",
    /// Writing.
    Write "write",
    /// Writing at the end only.
    Append "append",
    /// Running, whatever becomes of the process.
    Execute "execute",
    /// Running without a change of domain.
    ExecuteNoTrans "execute_no_trans",
    /// Being the program by which a domain is entered.
    Entrypoint "entrypoint",
    /// Opening, beside reading or writing.
    Open "open",
    /// Looking at owner, mode and attributes.
    Getattr "getattr",
    /// Changing owner, mode, times, ACLs and attributes.
    Setattr "setattr",
    /// Having a new inode of this label.
    Create "create",
    /// Giving one more name.
    Link "link",
    /// Taking a name away.
    Unlink "unlink",
    /// Changing the name.
    Rename "rename",
    /// Going through a directory.
    Search "search",
    /// Adding a name to a directory.
    AddName "add_name",
    /// Taking a name from a directory.
    RemoveName "remove_name",
    /// Moving a directory into another one.
    Reparent "reparent",
    /// Removing a directory.
    Rmdir "rmdir",
    /// Taking the label away.
    Relabelfrom "relabelfrom",
    /// Giving the label.
    Relabelto "relabelto",
    /// Of file systems: having inodes of a label.
    Associate "associate",
    /// Of processes: becoming another domain.
    Transition "transition",
    /// The same with no_new_privs.
    NnpTransition "nnp_transition",
    /// The same with a program on a nosuid mount.
    NosuidTransition "nosuid_transition",
}

/// The class of inodes of `kind` (`inode_mode_to_security_class`).
#[must_use]
pub(crate) const fn class_of(kind: FileKind) -> &'static str {
    match kind {
        FileKind::File => "file",
        FileKind::Directory => "dir",
        FileKind::Link => "lnk_file",
        FileKind::CharDevice => "chr_file",
        FileKind::BlockDevice => "blk_file",
        FileKind::Socket => "sock_file",
        FileKind::Fifo => "fifo_file",
    }
}
