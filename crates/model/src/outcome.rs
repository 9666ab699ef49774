//! How an act ends.

use std::fmt;
use std::sync::Arc;

use crate::caps::CapabilitySet;
use crate::held::Held;
use crate::ids::{DiskGid, DiskUid, InsideGid, InsideUid};
use crate::mode::Mode;

macro_rules! errnos {
    ($($name:ident = $number:literal $meaning:literal),+ $(,)?) => {
        /// An error the kernel gives, by its POSIX name; the number is Linux's on x86_64 and arm64.
        #[expect(missing_docs, reason = "the names are those of errno(3)")]
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
        pub enum Errno { $($name = $number),+ }

        impl Errno {
            /// Every error an act can end with.
            pub const ALL: &'static [Self] = &[$(Self::$name),+];

            /// The POSIX name, such as `EACCES`.
            #[must_use]
            pub const fn name(self) -> &'static str {
                match self { $(Self::$name => stringify!($name)),+ }
            }

            /// A few words for people.
            #[must_use]
            pub const fn meaning(self) -> &'static str {
                match self { $(Self::$name => $meaning),+ }
            }
        }
    };
}

errnos! {
    EPERM = 1 "operation not permitted",
    ENOENT = 2 "no such file or directory",
    ENXIO = 6 "nothing answers at that socket or device",
    ENOEXEC = 8 "not a format the kernel can run",
    EACCES = 13 "permission denied",
    EBUSY = 16 "in use: a mount point",
    EEXIST = 17 "exists already",
    EXDEV = 18 "across two mounts or file systems",
    ENOTDIR = 20 "not a directory",
    EISDIR = 21 "is a directory",
    EINVAL = 22 "invalid argument",
    EROFS = 30 "read-only file system",
    ENAMETOOLONG = 36 "name too long",
    ENOTEMPTY = 39 "directory not empty",
    ELOOP = 40 "too many symbolic links",
    ENODATA = 61 "no such attribute",
    EOVERFLOW = 75 "an id that cannot be expressed there",
    EOPNOTSUPP = 95 "not supported by the file system",
}

impl Errno {
    /// The number the kernel returns.
    #[must_use]
    pub const fn number(self) -> i32 {
        self as i32
    }

    /// The error of that number, if an act can end with it.
    #[must_use]
    pub fn by_number(number: i32) -> Option<Self> {
        Self::ALL.iter().copied().find(|errno| errno.number() == number)
    }

    /// The error of that POSIX name.
    #[must_use]
    pub fn by_name(name: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|errno| errno.name() == name)
    }
}

impl fmt::Display for Errno {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// Owner, group and mode of an inode that an act creates or changes.
///
/// A field is `None` where it depends on a missing fact.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Imprint {
    /// Owner as the actor sees it.
    pub uid: Option<InsideUid>,
    /// Group as the actor sees it.
    pub gid: Option<InsideGid>,
    /// Permission bits.
    pub mode: Option<Mode>,
    /// Owner as stored.
    pub disk_uid: Option<DiskUid>,
    /// Group as stored.
    pub disk_gid: Option<DiskGid>,
    /// Its access ACL where that says more than the mode, in the text form of acl(5).
    pub acl: Option<String>,
    /// Its default ACL, where the act gives it one, likewise.
    pub default_acl: Option<String>,
    /// Its security label, where the act gives it one and the host's policy is known.
    pub label: Option<String>,
    /// That label as it is stored, where the file system keeps one for each inode; a drawn level is what stands for it.
    pub disk_label: Option<Arc<str>>,
}

impl Imprint {
    /// An imprint with every number known.
    #[must_use]
    pub fn new(uid: InsideUid, gid: InsideGid, mode: Mode, disk_uid: DiskUid, disk_gid: DiskGid) -> Self {
        Self {
            uid: Some(uid),
            gid: Some(gid),
            mode: Some(mode),
            disk_uid: Some(disk_uid),
            disk_gid: Some(disk_gid),
            acl: None,
            default_acl: None,
            label: None,
            disk_label: None,
        }
    }

    /// What both agree on.
    #[must_use]
    pub fn agreed(&self, other: &Self) -> Self {
        fn same<T: PartialEq + Clone>(a: &Option<T>, b: &Option<T>) -> Option<T> {
            if a == b { a.clone() } else { None }
        }
        Self {
            uid: same(&self.uid, &other.uid),
            gid: same(&self.gid, &other.gid),
            mode: same(&self.mode, &other.mode),
            disk_uid: same(&self.disk_uid, &other.disk_uid),
            disk_gid: same(&self.disk_gid, &other.disk_gid),
            acl: same(&self.acl, &other.acl),
            default_acl: same(&self.default_acl, &other.default_acl),
            label: same(&self.label, &other.label),
            disk_label: same(&self.disk_label, &other.disk_label),
        }
    }
}

/// Whom a started program runs as.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct RunsAs {
    /// Effective user id inside.
    pub uid: Held<InsideUid>,
    /// Effective group id inside.
    pub gid: Held<InsideGid>,
    /// Capabilities in force.
    pub effective: CapabilitySet,
    /// Capabilities it may put in force.
    pub permitted: CapabilitySet,
}

/// What an allowed act leaves behind.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Effect {
    /// The inode it created, or one whose owner or mode it changed as it is then; of an act that only looks, what it shows.
    pub imprint: Option<Imprint>,
    /// The identity of the program it started.
    pub runs_as: Option<RunsAs>,
}

/// How an act ends once everything it needs is known.
pub type Verdict = Result<Effect, Errno>;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_numbers_are_each_others_inverse() {
        for errno in Errno::ALL {
            assert_eq!(Errno::by_number(errno.number()), Some(*errno));
            assert_eq!(Errno::by_name(errno.name()), Some(*errno));
        }
    }
}
