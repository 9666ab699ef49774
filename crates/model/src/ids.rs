//! User and group ids, one type for each side they can be seen from.
//!
//! The same number means different things inside a container, to the kernel and
//! on a disk. Each side has its own type; an [`IdMap`] is the only bridge, so an
//! inside id cannot be compared with a kernel id by mistake.

use std::fmt;

use crate::picked::{in_words, is_picked};

macro_rules! id_type {
    ($(#[$doc:meta])* $name:ident) => {
        $(#[$doc])*
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct $name(u32);

        impl $name {
            /// Wraps a raw number.
            #[must_use]
            pub const fn new(raw: u32) -> Self {
                Self(raw)
            }

            /// The raw number.
            #[must_use]
            pub const fn raw(self) -> u32 {
                self.0
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                self.0.fmt(f)
            }
        }

        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, concat!(stringify!($name), "({})"), self.0)
            }
        }
    };
}

id_type!(
    /// A user id as processes inside the container see it, before any id map.
    InsideUid
);
id_type!(
    /// A group id as processes inside the container see it, before any id map.
    InsideGid
);
id_type!(
    /// A user id as the kernel compares it, after the user namespace's map.
    KernelUid
);
id_type!(
    /// A group id as the kernel compares it, after the user namespace's map.
    KernelGid
);
id_type!(
    /// A user id as it is stored on the disk, before any mount's id map.
    DiskUid
);
id_type!(
    /// A group id as it is stored on the disk, before any mount's id map.
    DiskGid
);

macro_rules! owner_type {
    ($(#[$doc:meta])* $name:ident, $uid:ident, $gid:ident) => {
        $(#[$doc])*
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
        pub struct $name {
            /// The user.
            pub uid: $uid,
            /// The group.
            pub gid: $gid,
        }

        impl $name {
            /// 0:0.
            pub const ROOT: Self = Self::new(0, 0);

            /// Wraps a raw user id and a raw group id of this side.
            #[must_use]
            pub const fn new(uid: u32, gid: u32) -> Self {
                Self { uid: $uid::new(uid), gid: $gid::new(gid) }
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, "{}:{}", self.uid, self.gid)
            }
        }
    };
}

owner_type!(
    /// A user and a group as the kernel compares them.
    KernelOwner,
    KernelUid,
    KernelGid
);
owner_type!(
    /// The owner of an inode, as it is stored on the disk.
    DiskOwner,
    DiskUid,
    DiskGid
);

impl KernelOwner {
    /// What a mount without an id map stores for it.
    #[must_use]
    pub const fn unmapped(self) -> DiskOwner {
        DiskOwner::new(self.uid.raw(), self.gid.raw())
    }
}

/// `(uid_t)-1`, which is no id: no map covers it, the initial one included (`uid_valid`, `gid_valid`).
pub const NO_ID: u32 = u32::MAX;

/// What `stat` shows for an id that has no mapping (`/proc/sys/kernel/overflowuid`).
pub const OVERFLOW_ID: u32 = 65534;

/// One line of an id map: `inside outside count`, as in `/proc/PID/uid_map`.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Extent {
    /// The first id on the near side.
    pub inside: u32,
    /// The id that `inside` becomes on the far side.
    pub outside: u32,
    /// How many consecutive ids the line covers.
    pub count: u32,
}

impl fmt::Display for Extent {
    /// As in `/proc/PID/uid_map`: `0 100000 65536`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {} {}", self.inside, in_words(self.outside), self.count)
    }
}

/// A map between two id spaces; the empty one maps every id but `(uid_t)-1` to itself.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct IdMap {
    extents: Vec<Extent>,
}

impl IdMap {
    /// The map of the initial user namespace: every id is itself.
    #[must_use]
    pub const fn identity() -> Self {
        Self { extents: Vec::new() }
    }

    /// A map made of `extents`; with none of them it is the identity.
    #[must_use]
    pub const fn new(extents: Vec<Extent>) -> Self {
        Self { extents }
    }

    /// Its lines; none for the identity.
    #[must_use]
    pub fn extents(&self) -> &[Extent] {
        &self.extents
    }

    /// Whether every id maps to itself.
    #[must_use]
    pub const fn is_identity(&self) -> bool {
        self.extents.is_empty()
    }

    /// From the near side to the far side; `None` where no line covers `id`.
    #[must_use]
    pub fn forward(&self, id: u32) -> Option<u32> {
        if self.is_identity() {
            return (id != NO_ID).then_some(id);
        }
        self.extents.iter().find_map(|line| {
            let offset = id.checked_sub(line.inside)?;
            (offset < line.count).then(|| line.outside.wrapping_add(offset))
        })
    }

    /// From the far side back to the near side; `None` where no line covers `id`.
    #[must_use]
    pub fn backward(&self, id: u32) -> Option<u32> {
        if self.is_identity() {
            return (id != NO_ID).then_some(id);
        }
        self.extents.iter().find_map(|line| {
            let offset = id.checked_sub(line.outside)?;
            (offset < line.count).then(|| line.inside.wrapping_add(offset))
        })
    }

    /// This map behind `outer`, whose near side is this one's far side: what a namespace inside another one makes of ids.
    ///
    /// Lines are split where `outer`'s are; `None` where `outer` lacks an id that a line leads to (`map_write` in
    /// kernel/user_namespace.c, EPERM).
    #[must_use]
    pub fn within(&self, outer: &Self) -> Option<Self> {
        if outer.is_identity() {
            return Some(self.clone());
        }
        if self.is_identity() {
            return Some(outer.clone());
        }
        let mut extents = Vec::new();
        for line in &self.extents {
            let mut done = 0;
            while done < line.count {
                let middle = line.outside.checked_add(done)?;
                let covering = outer.extents.iter().find_map(|outer| {
                    let offset = middle.checked_sub(outer.inside)?;
                    (offset < outer.count).then_some((outer, offset))
                });
                let (part, offset) = covering?;
                let count = (line.count - done).min(part.count - offset);
                extents.push(Extent { inside: line.inside + done, outside: part.outside + offset, count });
                done += count;
            }
        }
        Some(Self::new(extents))
    }

    /// The line that covers `id` on the near side.
    #[must_use]
    pub fn line_of(&self, id: u32) -> Option<Extent> {
        let covers = |line: &&Extent| id.checked_sub(line.inside).is_some_and(|offset| offset < line.count);
        self.extents.iter().find(covers).copied()
    }

    /// Whether a line covers any id of `from..=to` on the far side.
    #[must_use]
    pub fn reaches(&self, from: u32, to: u32) -> bool {
        self.is_identity()
            || self.extents.iter().any(|line| {
                let last = line.outside.saturating_add(line.count.saturating_sub(1));
                line.count > 0 && line.outside <= to && from <= last
            })
    }
}

/// A user namespace: how the ids inside it relate to the kernel's.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct UserNamespace {
    /// Inside user ids to kernel user ids.
    pub uids: IdMap,
    /// Inside group ids to kernel group ids.
    pub gids: IdMap,
}

impl UserNamespace {
    /// The initial user namespace of the host.
    #[must_use]
    pub const fn initial() -> Self {
        Self { uids: IdMap::identity(), gids: IdMap::identity() }
    }

    /// Whether inside and kernel ids are the same numbers.
    #[must_use]
    pub const fn is_initial(&self) -> bool {
        self.uids.is_identity() && self.gids.is_identity()
    }

    /// The kernel's id for `uid` (`make_kuid`).
    #[must_use]
    pub fn to_kernel_uid(&self, uid: InsideUid) -> Option<KernelUid> {
        self.uids.forward(uid.raw()).map(KernelUid::new)
    }

    /// The kernel's id for `gid` (`make_kgid`).
    #[must_use]
    pub fn to_kernel_gid(&self, gid: InsideGid) -> Option<KernelGid> {
        self.gids.forward(gid.raw()).map(KernelGid::new)
    }

    /// The inside id that `stat` shows for `uid`, or `None` where it is unmapped (`from_kuid`).
    #[must_use]
    pub fn to_inside_uid(&self, uid: KernelUid) -> Option<InsideUid> {
        self.uids.backward(uid.raw()).map(InsideUid::new)
    }

    /// The inside id that `stat` shows for `gid`, or `None` where it is unmapped (`from_kgid`).
    #[must_use]
    pub fn to_inside_gid(&self, gid: KernelGid) -> Option<InsideGid> {
        self.gids.backward(gid.raw()).map(InsideGid::new)
    }
}

impl fmt::Display for UserNamespace {
    /// `users 0-65535 are 100000-165535; groups likewise`, in words.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "users {}", self.uids)?;
        if self.gids == self.uids {
            f.write_str(", groups alike")
        } else {
            write!(f, ", groups {}", self.gids)
        }
    }
}

impl fmt::Display for IdMap {
    /// Each line as a range inside and where it starts outside.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_identity() {
            return f.write_str("as on the host");
        }
        for (index, line) in self.extents.iter().enumerate() {
            let comma = if index == 0 { "" } else { ", " };
            let last = line.inside.saturating_add(line.count.saturating_sub(1));
            write!(f, "{comma}{}", line.inside)?;
            if line.count > 1 {
                write!(f, "-{last}")?;
            }
            if is_picked(line.outside) {
                f.write_str(" picked at its start")?;
            } else {
                write!(f, " from {}", line.outside)?;
            }
        }
        Ok(())
    }
}

/// The id map of a mount: ids on the disk to the ids the kernel compares.
///
/// The identity unless the mount is id-mapped (`mount_setattr` with `MOUNT_ATTR_IDMAP`).
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct MountIds {
    /// Stored user ids to kernel user ids.
    pub uids: IdMap,
    /// Stored group ids to kernel group ids.
    pub gids: IdMap,
}

impl MountIds {
    /// The kernel's id for an owner on the disk (`i_uid_into_vfsuid`); `None` where unmapped.
    #[must_use]
    pub fn to_kernel_uid(&self, uid: DiskUid) -> Option<KernelUid> {
        self.uids.forward(uid.raw()).map(KernelUid::new)
    }

    /// The kernel's id for a group on the disk (`i_gid_into_vfsgid`); `None` where unmapped.
    #[must_use]
    pub fn to_kernel_gid(&self, gid: DiskGid) -> Option<KernelGid> {
        self.gids.forward(gid.raw()).map(KernelGid::new)
    }

    /// The id that a new inode of `uid` is stored with; `None` where it cannot be expressed.
    #[must_use]
    pub fn to_disk_uid(&self, uid: KernelUid) -> Option<DiskUid> {
        self.uids.backward(uid.raw()).map(DiskUid::new)
    }

    /// The id that a new inode of `gid` is stored with; `None` where it cannot be expressed.
    #[must_use]
    pub fn to_disk_gid(&self, gid: KernelGid) -> Option<DiskGid> {
        self.gids.backward(gid.raw()).map(DiskGid::new)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_map_goes_forward_and_back_within_its_lines_only() {
        let map = IdMap::new(vec![Extent { inside: 0, outside: 100_000, count: 10 }]);
        assert_eq!(map.forward(9), Some(100_009));
        assert_eq!(map.forward(10), None);
        assert_eq!(map.backward(100_009), Some(9));
        assert_eq!(map.backward(99_999), None);
    }

    #[test]
    fn a_map_behind_another_is_split_where_that_one_is() {
        let line = |inside, outside, count| Extent { inside, outside, count };
        let outer = IdMap::new(vec![line(0, 1500, 1), line(1, 200_000, 100)]);
        let inner = IdMap::new(vec![line(0, 0, 11), line(1000, 50, 51)]);
        let whole = inner.within(&outer);
        let lines = [line(0, 1500, 1), line(1, 200_000, 10), line(1000, 200_049, 51)];
        assert_eq!(whole.as_ref().map(IdMap::extents), Some(&lines[..]));
        assert_eq!(IdMap::new(vec![line(0, 50, 52)]).within(&outer), None);
        assert_eq!(IdMap::identity().within(&outer), Some(outer.clone()));
        assert_eq!(outer.within(&IdMap::identity()), Some(outer));
    }

    #[test]
    fn the_identity_maps_every_id_but_minus_one() {
        assert_eq!(IdMap::identity().forward(NO_ID - 1), Some(NO_ID - 1));
        assert_eq!((IdMap::identity().forward(NO_ID), IdMap::identity().backward(NO_ID)), (None, None));
        assert!(UserNamespace::initial().is_initial());
    }
}
