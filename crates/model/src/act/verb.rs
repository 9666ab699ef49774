//! What can be done: each verb means one system call.

use crate::acl::AclText;
use crate::mode::{FileKind, Mode, ModeChange};
use crate::tree::Device;

/// What an actor does, with all it takes besides the path.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Verb {
    /// stat
    Inspects,
    /// lstat
    InspectsLink,
    /// access R_OK: by the real ids, and without capabilities for anybody but root
    MayRead,
    /// access W_OK
    MayWrite,
    /// access X_OK
    MayRun,
    /// open O_RDONLY
    Reads,
    /// open O_WRONLY
    Writes,
    /// open O_WRONLY|O_APPEND
    Appends,
    /// open O_WRONLY|O_TRUNC
    Truncates,
    /// open O_RDWR
    Updates,
    /// open O_WRONLY|O_CREAT|O_TRUNC
    Overwrites,
    /// open O_WRONLY|O_CREAT|O_APPEND
    Extends,
    /// truncate, to no bytes
    Shortens,
    /// execve
    Runs,
    /// opendir and readdir
    Lists,
    /// chdir
    Enters,
    /// open O_CREAT|O_EXCL with this mode
    Creates(Mode),
    /// mkdir with this mode
    MakesDirectory(Mode),
    /// mkfifo with this mode
    MakesFifo(Mode),
    /// mknod of a device or socket with this mode
    MakesNode(Node, Mode),
    /// symlink to this target
    Points(Vec<u8>),
    /// link to this new absolute path
    Links(Vec<u8>),
    /// linkat AT_SYMLINK_FOLLOW to this new absolute path
    LinksTarget(Vec<u8>),
    /// rename to this absolute path
    Renames(Vec<u8>),
    /// renameat2 RENAME_NOREPLACE to this absolute path
    RenamesNew(Vec<u8>),
    /// renameat2 RENAME_EXCHANGE with this absolute path
    Exchanges(Vec<u8>),
    /// unlink
    Deletes,
    /// rmdir
    RemovesDirectory,
    /// chmod
    SetsMode(ModeChange),
    /// chown
    SetsOwner(Owner),
    /// chown of the group alone (inside id)
    SetsGroup(u32),
    /// lchown
    SetsLinkOwner(Owner),
    /// lchown of the group alone (inside id)
    SetsLinkGroup(u32),
    /// setxattr of the access ACL
    SetsAcl(AclText),
    /// setxattr of the default ACL
    SetsDefaultAcl(AclText),
    /// removexattr of the access ACL
    RemovesAcl,
    /// removexattr of the default ACL
    RemovesDefaultAcl,
    /// utimensat to now
    Stamps,
    /// utimensat to an explicit time
    Backdates,
    /// setxattr of this attribute
    Tags(Vec<u8>),
    /// getxattr of this attribute
    ReadsTag(Vec<u8>),
}

/// What mknod makes.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Node {
    /// A device or a socket.
    pub kind: FileKind,
    /// Major and minor number; 0:0 for a socket.
    pub device: Device,
}

impl Node {
    /// The null device, 1:3.
    pub(super) const NULL: Self = Self { kind: FileKind::CharDevice, device: Device { major: 1, minor: 3 } };
}

/// The ids chown is given (inside ids); a part that is not named stays.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct Owner {
    /// User id.
    pub uid: Option<u32>,
    /// Group id.
    pub gid: Option<u32>,
}

impl Owner {
    /// `U`, `U:G`, `:G`, or `:` for neither.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let (uid, gid) = text.split_once(':').unwrap_or((text, ""));
        if text.is_empty() {
            return None;
        }
        let part = |part: &str| if part.is_empty() { Some(None) } else { id(part).map(Some) };
        Some(Self { uid: part(uid)?, gid: part(gid)? })
    }
}

/// A decimal id; `u32::MAX` is not an id but chown's word for "stays".
pub fn id(text: &str) -> Option<u32> {
    text.parse().ok().filter(|id| *id != u32::MAX && text.bytes().all(|byte| byte.is_ascii_digit()))
}

/// What is in a sentence besides actor, verb and path.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Shape {
    /// Nothing.
    Path,
    /// `PATH [mode M]`
    Mode,
    /// `PATH [as KIND [MAJOR:MINOR]] [mode M]`
    Node,
    /// `PATH WORD VALUE`
    Behind(&'static str),
    /// `VALUE on PATH`
    Before,
}

macro_rules! verbs {
    ($($pattern:pat => $default:expr, $word:literal, $shape:expr, $form:literal;)+) => {
        impl Verb {
            /// Every verb, with the mode it asks for where none is given.
            pub const ALL: &'static [Self] = &[$($default),+];

            /// The word in the act language.
            #[must_use]
            pub const fn word(&self) -> &'static str {
                match self { $($pattern => $word),+ }
            }

            /// How a sentence with it is built.
            #[must_use]
            pub const fn form(&self) -> &'static str {
                match self { $($pattern => $form),+ }
            }

            pub(super) const fn shape(&self) -> Shape {
                match self { $($pattern => $shape),+ }
            }
        }
    };
}

verbs! {
    Self::Inspects => Self::Inspects, "inspects", Shape::Path, "ACTOR inspects PATH";
    Self::InspectsLink => Self::InspectsLink, "inspects-link", Shape::Path, "ACTOR inspects-link PATH";
    Self::MayRead => Self::MayRead, "may-read", Shape::Path, "ACTOR may-read PATH";
    Self::MayWrite => Self::MayWrite, "may-write", Shape::Path, "ACTOR may-write PATH";
    Self::MayRun => Self::MayRun, "may-run", Shape::Path, "ACTOR may-run PATH";
    Self::Reads => Self::Reads, "reads", Shape::Path, "ACTOR reads PATH";
    Self::Writes => Self::Writes, "writes", Shape::Path, "ACTOR writes PATH";
    Self::Appends => Self::Appends, "appends", Shape::Path, "ACTOR appends PATH";
    Self::Truncates => Self::Truncates, "truncates", Shape::Path, "ACTOR truncates PATH";
    Self::Updates => Self::Updates, "updates", Shape::Path, "ACTOR updates PATH";
    Self::Overwrites => Self::Overwrites, "overwrites", Shape::Path, "ACTOR overwrites PATH";
    Self::Extends => Self::Extends, "extends", Shape::Path, "ACTOR extends PATH";
    Self::Shortens => Self::Shortens, "shortens", Shape::Path, "ACTOR shortens PATH";
    Self::Runs => Self::Runs, "runs", Shape::Path, "ACTOR runs PATH";
    Self::Lists => Self::Lists, "lists", Shape::Path, "ACTOR lists PATH";
    Self::Enters => Self::Enters, "enters", Shape::Path, "ACTOR enters PATH";
    Self::Creates(_) => Self::Creates(Mode::new(0o666)), "creates", Shape::Mode, "ACTOR creates PATH [mode M]";
    Self::MakesDirectory(_) => Self::MakesDirectory(Mode::new(0o777)), "makes-directory", Shape::Mode, "ACTOR makes-directory PATH [mode M]";
    Self::MakesFifo(_) => Self::MakesFifo(Mode::new(0o666)), "makes-fifo", Shape::Mode, "ACTOR makes-fifo PATH [mode M]";
    Self::MakesNode(..) => Self::MakesNode(Node::NULL, Mode::new(0o666)), "makes-node", Shape::Node, "ACTOR makes-node PATH [as char|block MAJOR:MINOR, or as socket] [mode M]";
    Self::Points(_) => Self::Points(Vec::new()), "points", Shape::Behind("at"), "ACTOR points PATH at TARGET";
    Self::Links(_) => Self::Links(Vec::new()), "links", Shape::Behind("to"), "ACTOR links PATH to NEW";
    Self::LinksTarget(_) => Self::LinksTarget(Vec::new()), "links-target", Shape::Behind("to"), "ACTOR links-target PATH to NEW";
    Self::Renames(_) => Self::Renames(Vec::new()), "renames", Shape::Behind("to"), "ACTOR renames PATH to NEW";
    Self::RenamesNew(_) => Self::RenamesNew(Vec::new()), "renames-new", Shape::Behind("to"), "ACTOR renames-new PATH to NEW";
    Self::Exchanges(_) => Self::Exchanges(Vec::new()), "exchanges", Shape::Behind("with"), "ACTOR exchanges PATH with OTHER";
    Self::Deletes => Self::Deletes, "deletes", Shape::Path, "ACTOR deletes PATH";
    Self::RemovesDirectory => Self::RemovesDirectory, "removes-directory", Shape::Path, "ACTOR removes-directory PATH";
    Self::SetsMode(_) => Self::SetsMode(ModeChange::Exact(Mode::new(0o644))), "sets-mode", Shape::Before, "ACTOR sets-mode MODE on PATH";
    Self::SetsOwner(_) => Self::SetsOwner(Owner { uid: None, gid: None }), "sets-owner", Shape::Before, "ACTOR sets-owner UID[:GID] on PATH";
    Self::SetsGroup(_) => Self::SetsGroup(0), "sets-group", Shape::Before, "ACTOR sets-group GID on PATH";
    Self::SetsLinkOwner(_) => Self::SetsLinkOwner(Owner { uid: None, gid: None }), "sets-link-owner", Shape::Before, "ACTOR sets-link-owner UID[:GID] on PATH";
    Self::SetsLinkGroup(_) => Self::SetsLinkGroup(0), "sets-link-group", Shape::Before, "ACTOR sets-link-group GID on PATH";
    Self::SetsAcl(_) => Self::SetsAcl(AclText::NONE), "sets-acl", Shape::Before, "ACTOR sets-acl ACL on PATH";
    Self::SetsDefaultAcl(_) => Self::SetsDefaultAcl(AclText::NONE), "sets-default-acl", Shape::Before, "ACTOR sets-default-acl ACL on PATH";
    Self::RemovesAcl => Self::RemovesAcl, "removes-acl", Shape::Path, "ACTOR removes-acl PATH";
    Self::RemovesDefaultAcl => Self::RemovesDefaultAcl, "removes-default-acl", Shape::Path, "ACTOR removes-default-acl PATH";
    Self::Stamps => Self::Stamps, "stamps", Shape::Path, "ACTOR stamps PATH";
    Self::Backdates => Self::Backdates, "backdates", Shape::Path, "ACTOR backdates PATH";
    Self::Tags(_) => Self::Tags(Vec::new()), "tags", Shape::Behind("with"), "ACTOR tags PATH with NAME";
    Self::ReadsTag(_) => Self::ReadsTag(Vec::new()), "reads-tag", Shape::Behind("of"), "ACTOR reads-tag PATH of NAME";
}

impl Verb {
    /// The mode it asks for; `None` where it takes none.
    #[must_use]
    pub const fn mode(&self) -> Option<Mode> {
        if let Self::Creates(mode)
        | Self::MakesDirectory(mode)
        | Self::MakesFifo(mode)
        | Self::MakesNode(_, mode) = self
        {
            Some(*mode)
        } else {
            None
        }
    }

    /// The second path of a link or a rename.
    #[must_use]
    pub const fn second_path(&self) -> Option<&[u8]> {
        if let Self::Links(new)
        | Self::LinksTarget(new)
        | Self::Renames(new)
        | Self::RenamesNew(new)
        | Self::Exchanges(new) = self
        {
            Some(new.as_slice())
        } else {
            None
        }
    }

    /// The verb of that word, with the mode it asks for where none is given.
    #[must_use]
    pub fn by_word(word: &str) -> Option<Self> {
        Self::ALL.iter().find(|verb| verb.word() == word).cloned()
    }

    /// Whether it only looks, so that nothing on the disk can be different afterwards.
    #[must_use]
    pub const fn only_looks(&self) -> bool {
        matches!(
            self,
            Self::Inspects
                | Self::InspectsLink
                | Self::MayRead
                | Self::MayWrite
                | Self::MayRun
                | Self::ReadsTag(_)
                | Self::Reads
                | Self::Writes
                | Self::Appends
                | Self::Updates
                | Self::Runs
                | Self::Lists
                | Self::Enters
        )
    }

    /// Whether it opens a file that is there for writing and keeps its content: whoever does so means to write to it.
    #[must_use]
    pub const fn writes(&self) -> bool {
        matches!(self, Self::Writes | Self::Appends | Self::Updates | Self::Extends)
    }

    /// The kind of the inode it makes under its path where none is there; `None` where it makes none.
    #[must_use]
    pub const fn makes(&self) -> Option<FileKind> {
        match self {
            Self::Creates(_) | Self::Overwrites | Self::Extends => Some(FileKind::File),
            Self::MakesDirectory(_) => Some(FileKind::Directory),
            Self::MakesFifo(_) => Some(FileKind::Fifo),
            Self::MakesNode(node, _) => Some(node.kind),
            Self::Points(_) => Some(FileKind::Link),
            Self::Inspects
            | Self::InspectsLink
            | Self::MayRead
            | Self::MayWrite
            | Self::MayRun
            | Self::ReadsTag(_)
            | Self::LinksTarget(_)
            | Self::RenamesNew(_)
            | Self::Exchanges(_)
            | Self::SetsDefaultAcl(_)
            | Self::RemovesAcl
            | Self::RemovesDefaultAcl
            | Self::Reads
            | Self::Writes
            | Self::Appends
            | Self::Truncates
            | Self::Updates
            | Self::Shortens
            | Self::Runs
            | Self::Lists
            | Self::Enters
            | Self::Links(_)
            | Self::Renames(_)
            | Self::Deletes
            | Self::RemovesDirectory
            | Self::SetsMode(_)
            | Self::SetsOwner(_)
            | Self::SetsGroup(_)
            | Self::SetsLinkOwner(_)
            | Self::SetsLinkGroup(_)
            | Self::SetsAcl(_)
            | Self::Stamps
            | Self::Backdates
            | Self::Tags(_) => None,
        }
    }

    /// Whether it makes a new inode under its path, where none is there.
    #[must_use]
    pub const fn creates(&self) -> bool {
        self.makes().is_some()
    }

    /// Whether it adds a name to a directory or takes one away.
    #[must_use]
    pub const fn changes_entries(&self) -> bool {
        self.creates()
            || matches!(self, Self::Deletes | Self::RemovesDirectory)
            || self.second_path().is_some()
    }

    /// Whether it sets owner, group, mode or ACL of what its path leads to.
    #[must_use]
    pub const fn sets_attributes(&self) -> bool {
        matches!(
            self,
            Self::SetsMode(_)
                | Self::SetsOwner(_)
                | Self::SetsGroup(_)
                | Self::SetsAcl(_)
                | Self::SetsDefaultAcl(_)
                | Self::RemovesAcl
                | Self::RemovesDefaultAcl
        )
    }
}
