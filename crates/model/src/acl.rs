//! POSIX access control lists (POSIX.1e draft 17; acl(5)).

use std::collections::BTreeSet;
use std::fmt;

use crate::ids::{DiskGid, DiskUid};
use crate::mode::{Access, Mode};

/// An access or default ACL with the entries of acl(5); ids are as stored on the disk.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct Acl {
    /// `user::`, the owner.
    pub owner: Access,
    /// `user:UID:` entries, sorted by id.
    pub users: Vec<(DiskUid, Access)>,
    /// `group::`, the owning group.
    pub group: Access,
    /// `group:GID:` entries, sorted by id.
    pub groups: Vec<(DiskGid, Access)>,
    /// `mask::`; `None` only where there are no named entries.
    pub mask: Option<Access>,
    /// `other::`.
    pub other: Access,
}

/// Entries of the longest ACL: eight bytes each behind four (`XATTR_SIZE_MAX`, linux/posix_acl_xattr.h).
pub const MOST_ENTRIES: usize = 8191;

/// What is wrong with an ACL text.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum AclError {
    /// There are more entries than an attribute has room for.
    #[error("it has more than {MOST_ENTRIES} entries, which is all an attribute has room for")]
    Many,
    /// An entry is not `TAG:QUALIFIER:PERMISSIONS`.
    #[error("`{0}` is not an ACL entry: write TAG:ID:PERMISSIONS, such as user:7102:rw-")]
    Entry(String),
    /// A qualifier is not a number.
    #[error("`{0}` is not a numeric id: ACLs here name ids, not accounts")]
    Id(String),
    /// An entry appears twice.
    #[error("the entry `{0}` appears twice")]
    Twice(String),
}

/// An ACL as it is written: entries may be left out, ids are those of whoever wrote it.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct AclText {
    owner: Option<Access>,
    /// Named users, by the id that was written.
    pub users: Vec<(u32, Access)>,
    group: Option<Access>,
    /// Named groups, by the id that was written.
    pub groups: Vec<(u32, Access)>,
    mask: Option<Access>,
    other: Option<Access>,
}

impl AclText {
    /// No entry at all: the mode says everything.
    pub const NONE: Self =
        Self { owner: None, users: Vec::new(), group: None, groups: Vec::new(), mask: None, other: None };

    /// Every entry of `acl`, with the ids it has; `None` where two entries show one id, as two without a mapping do.
    #[must_use]
    pub fn of(acl: &Acl) -> Option<Self> {
        let users: Vec<_> = acl.users.iter().map(|(uid, access)| (uid.raw(), *access)).collect();
        let groups: Vec<_> = acl.groups.iter().map(|(gid, access)| (gid.raw(), *access)).collect();
        let once = |entries: &[(u32, Access)]| {
            entries.iter().enumerate().all(|(at, (id, _))| entries[..at].iter().all(|(other, _)| other != id))
        };
        (once(&users) && once(&groups)).then_some(Self {
            owner: Some(acl.owner),
            users,
            group: Some(acl.group),
            groups,
            mask: acl.mask,
            other: Some(acl.other),
        })
    }

    /// Reads the short text form, entries separated by commas or line ends.
    ///
    /// # Errors
    /// A malformed entry, a name where an id is needed, or an entry given twice.
    pub fn parse(text: &str) -> Result<Self, AclError> {
        let mut acl = Self::default();
        let mut seen = BTreeSet::new();
        for entry in text.split([',', '\n']).map(str::trim).filter(|entry| !entry.is_empty()) {
            let parts: Vec<&str> = entry.split(':').collect();
            let &[tag, id, bits] = parts.as_slice() else {
                return Err(AclError::Entry(entry.to_owned()));
            };
            let tag =
                if TAGS.contains(&tag) { tag.chars().next().unwrap_or_default() } else { char::default() };
            if !seen.insert((tag, id)) {
                return Err(AclError::Twice(entry.to_owned()));
            }
            if seen.len() > MOST_ENTRIES {
                return Err(AclError::Many);
            }
            let access = permissions(bits).ok_or_else(|| AclError::Entry(entry.to_owned()))?;
            match (tag, id) {
                ('u', "") => acl.owner = Some(access),
                ('g', "") => acl.group = Some(access),
                ('m', "") => acl.mask = Some(access),
                ('o', "") => acl.other = Some(access),
                ('u', id) => acl.users.push((number(id)?, access)),
                ('g', id) => acl.groups.push((number(id)?, access)),
                _ => return Err(AclError::Entry(entry.to_owned())),
            }
        }
        acl.users.sort_unstable();
        acl.groups.sort_unstable();
        Ok(acl)
    }

    /// Adds `access` for the user `uid`, and to the mask whatever it needs; the other entries of the group class give no
    /// more than the mask let through before. `mode` is that of the inode, which tells what is left out.
    pub fn give(&mut self, uid: u32, access: Access, mode: Mode) {
        // Without a mask the group class is the owning group alone, and chmod's group digit is it.
        let before = self.mask.unwrap_or(mode.group());
        let both = |a: Access, b: Access| Access::new(u16::from(a.bits() | b.bits()));
        if self.mask.is_none() {
            self.group.get_or_insert(mode.group());
        }
        // The mask grows below, so whatever it held back until now has to be taken away from the entries themselves.
        for (_, held) in self.users.iter_mut().chain(&mut self.groups) {
            *held = held.masked(before);
        }
        self.group = self.group.map(|held| held.masked(before));
        match self.users.iter_mut().find(|(known, _)| *known == uid) {
            Some((_, held)) => *held = both(*held, access),
            // A new entry gives what was asked for and nothing of what the classes had.
            None => self.users.push((uid, access)),
        }
        self.users.sort_unstable();
        self.mask = Some(both(before, access));
    }

    /// The same with other ids for the users and groups it names; `None` where one has no other.
    #[must_use]
    pub fn renumbered(
        &self,
        user: impl Fn(u32) -> Option<u32>,
        group: impl Fn(u32) -> Option<u32>,
    ) -> Option<Self> {
        let mut text = self.clone();
        for (id, _) in &mut text.users {
            *id = user(*id)?;
        }
        for (id, _) in &mut text.groups {
            *id = group(*id)?;
        }
        text.users.sort_unstable();
        text.groups.sort_unstable();
        Some(text)
    }

    /// Whether every user and group named in it passes.
    pub fn all(&self, user: impl Fn(u32) -> bool, group: impl Fn(u32) -> bool) -> bool {
        self.users.iter().all(|(uid, _)| user(*uid)) && self.groups.iter().all(|(gid, _)| group(*gid))
    }

    /// The whole ACL on an inode of `mode`, which tells what is left out; named entries without a mask
    /// get the union of the group class as theirs (the usual computation, acl(5)). `None` where an id
    /// has no stored form.
    #[must_use]
    pub fn over(
        &self,
        mode: Mode,
        user: impl Fn(u32) -> Option<DiskUid>,
        group: impl Fn(u32) -> Option<DiskGid>,
    ) -> Option<Acl> {
        let plain = Acl::minimal(mode);
        let mut users = Vec::new();
        for (uid, access) in &self.users {
            users.push((user(*uid)?, *access));
        }
        let mut groups = Vec::new();
        for (gid, access) in &self.groups {
            groups.push((group(*gid)?, *access));
        }
        // Ids change their order when they are mapped, and two ACLs are compared entry by entry.
        users.sort_unstable();
        groups.sort_unstable();
        let mut acl = Acl {
            owner: self.owner.unwrap_or(plain.owner),
            users,
            group: self.group.unwrap_or(plain.group),
            groups,
            mask: self.mask,
            other: self.other.unwrap_or(plain.other),
        };
        if acl.mask.is_none() && acl.has_named_entries() {
            acl.mask = Some(acl.group_class());
        }
        Some(acl)
    }
}

impl fmt::Display for AclText {
    /// The entries that were written, in the order of acl(5).
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let base = |tag: &str, access: Option<Access>| access.map(|access| format!("{tag}::{access}"));
        let mut entries: Vec<String> = base("user", self.owner).into_iter().collect();
        entries.extend(self.users.iter().map(|(uid, access)| format!("user:{uid}:{access}")));
        entries.extend(base("group", self.group));
        entries.extend(self.groups.iter().map(|(gid, access)| format!("group:{gid}:{access}")));
        entries.extend(base("mask", self.mask));
        entries.extend(base("other", self.other));
        f.write_str(&entries.join(","))
    }
}

/// The tags of acl(5), each long and short.
const TAGS: [&str; 8] = ["user", "u", "group", "g", "mask", "m", "other", "o"];

impl Acl {
    /// The ACL that says no more than `mode` does.
    #[must_use]
    pub const fn minimal(mode: Mode) -> Self {
        Self {
            owner: mode.owner(),
            users: Vec::new(),
            group: mode.group(),
            groups: Vec::new(),
            mask: None,
            other: mode.other(),
        }
    }

    /// Reads the short text form; entries that are left out are taken from `mode`.
    ///
    /// # Errors
    /// As for [`AclText::parse`].
    pub fn parse(text: &str, mode: Mode) -> Result<Self, AclError> {
        Ok(AclText::parse(text)?
            .over(mode, |uid| Some(DiskUid::new(uid)), |gid| Some(DiskGid::new(gid)))
            .unwrap_or_else(|| Self::minimal(mode)))
    }

    /// The same after a chmod to `mode`: the group bits are its mask, where it has one (`posix_acl_chmod`).
    #[must_use]
    pub fn chmod(mut self, mode: Mode) -> Self {
        self.owner = mode.owner();
        self.other = mode.other();
        match self.mask {
            Some(_) => self.mask = Some(mode.group()),
            None => self.group = mode.group(),
        }
        self
    }

    /// Whether it holds entries for named users or groups.
    #[must_use]
    pub const fn has_named_entries(&self) -> bool {
        !self.users.is_empty() || !self.groups.is_empty()
    }

    /// Whether it says no more than nine mode bits can.
    #[must_use]
    pub const fn is_minimal(&self) -> bool {
        !self.has_named_entries() && self.mask.is_none()
    }

    /// What `mode` becomes with this ACL set on the inode: its group digit is the mask.
    #[must_use]
    pub const fn applied_to(&self, mode: Mode) -> Mode {
        let group = match self.mask {
            Some(mask) => mask,
            None => self.group,
        };
        // A mode has no room for a mask: stat(2) shows the mask where the group's bits would be.
        let nine = (self.owner.bits() as u16) << 6 | (group.bits() as u16) << 3 | self.other.bits() as u16;
        Mode::new(mode.bits() & 0o7000 | nine)
    }

    /// The mode of an inode created with `mode` below a directory with this default ACL
    /// (`posix_acl_create_masq` in fs/posix_acl.c).
    #[must_use]
    pub const fn masked_mode(&self, mode: Mode) -> Mode {
        mode.masked(Mode::new(self.applied_to(mode).bits() | 0o7000))
    }

    /// The ACL such an inode gets.
    #[must_use]
    pub fn inherited(&self, mode: Mode) -> Self {
        let mut acl = self.clone();
        // The mode that was asked for only takes away: entries for named users and groups are inherited whole, and
        // the mask is what holds them back.
        acl.owner = acl.owner.masked(mode.owner());
        match acl.mask {
            Some(mask) => acl.mask = Some(mask.masked(mode.group())),
            None => acl.group = acl.group.masked(mode.group()),
        }
        acl.other = acl.other.masked(mode.other());
        acl
    }

    /// The same with ids as someone else sees them, in order; an id without a mapping shows as `u32::MAX`, as
    /// getxattr(2) gives it.
    #[must_use]
    pub fn seen(
        &self,
        user: impl Fn(DiskUid) -> Option<u32>,
        group: impl Fn(DiskGid) -> Option<u32>,
    ) -> Self {
        let users =
            self.users.iter().map(|(uid, access)| (DiskUid::new(user(*uid).unwrap_or(u32::MAX)), *access));
        let groups =
            self.groups.iter().map(|(gid, access)| (DiskGid::new(group(*gid).unwrap_or(u32::MAX)), *access));
        let mut seen = Self { users: users.collect(), groups: groups.collect(), ..self.clone() };
        seen.users.sort_unstable();
        seen.groups.sort_unstable();
        seen
    }

    fn group_class(&self) -> Access {
        let named =
            self.users.iter().map(|(_, access)| access).chain(self.groups.iter().map(|(_, access)| access));
        let bits = named.fold(self.group.bits(), |bits, access| bits | access.bits());
        Access::new(u16::from(bits))
    }
}

fn permissions(text: &str) -> Option<Access> {
    let mut bits = 0u16;
    for letter in text.bytes() {
        bits |= match letter {
            b'r' => 4,
            b'w' => 2,
            b'x' => 1,
            b'-' => 0,
            _ => return None,
        };
    }
    (!text.is_empty() && text.len() <= 3).then(|| Access::new(bits))
}

fn number(text: &str) -> Result<u32, AclError> {
    text.parse().map_err(|_| AclError::Id(text.to_owned()))
}

impl fmt::Display for Acl {
    /// The short text form of acl(5), such as `user::rw-,user:7102:r--,group::r--,mask::r--,other::---`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "user::{}", self.owner)?;
        for (uid, access) in &self.users {
            write!(f, ",user:{uid}:{access}")?;
        }
        write!(f, ",group::{}", self.group)?;
        for (gid, access) in &self.groups {
            write!(f, ",group:{gid}:{access}")?;
        }
        if let Some(mask) = self.mask {
            write!(f, ",mask::{mask}")?;
        }
        write!(f, ",other::{}", self.other)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn named_entries_bring_a_mask_that_becomes_the_group_digit() {
        let acl = Acl::parse("user:7102:rw-", Mode::new(0o640)).unwrap();
        assert_eq!(acl.mask, Some(Access::READ_WRITE));
        assert_eq!(acl.applied_to(Mode::new(0o640)), Mode::new(0o660));
        assert_eq!(acl.to_string(), "user::rw-,user:7102:rw-,group::r--,mask::rw-,other::---");
    }

    #[test]
    fn the_printed_form_reads_back_the_same() {
        let acl = Acl::parse("u:7102:rwx,g:7200:r-x,m::r-x,o::---", Mode::new(0o750)).unwrap();
        assert_eq!(Acl::parse(&acl.to_string(), Mode::new(0)).unwrap(), acl);
    }

    #[test]
    fn what_is_no_entry_is_refused() {
        for text in ["user:7102", "user:gauge:r--", "users::r--", "user::rz-", "user::", "mask:3:r--"] {
            assert!(Acl::parse(text, Mode::new(0)).is_err(), "{text}");
        }
        assert!(matches!(Acl::parse("user::r--,user::rw-", Mode::new(0)), Err(AclError::Twice(_))));
    }

    #[test]
    fn a_created_inode_is_masked_by_what_was_asked_for() {
        let default = Acl::parse("user:7102:rwx", Mode::new(0o770)).unwrap();
        let acl = default.inherited(Mode::new(0o666));
        assert_eq!(acl.mask, Some(Access::READ_WRITE));
        assert_eq!(acl.applied_to(Mode::new(0o666)), Mode::new(0o660));
        assert_eq!(default.masked_mode(Mode::new(0o4666)), Mode::new(0o4660));
    }
}
