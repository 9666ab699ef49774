//! POSIX access control lists (POSIX.1e draft 17; acl(5)).

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

/// What is wrong with an ACL text.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum AclError {
    /// An entry is not `TAG:QUALIFIER:PERMISSIONS`.
    #[error("`{0}` is no ACL entry: write TAG:ID:PERMISSIONS, such as user:7102:rw-")]
    Entry(String),
    /// A qualifier is not a number.
    #[error("`{0}` is no numeric id: ACLs here name ids, not accounts")]
    Id(String),
    /// An entry stands twice.
    #[error("the entry `{0}` stands twice")]
    Twice(String),
}

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

    /// Reads the short text form, entries separated by commas or line ends.
    ///
    /// Entries that are left out are taken from `mode`; named entries without a mask get
    /// the union of the group class as their mask, as `setfacl` computes it.
    ///
    /// # Errors
    /// A malformed entry, a name where an id is needed, or an entry given twice.
    pub fn parse(text: &str, mode: Mode) -> Result<Self, AclError> {
        let mut acl = Self::minimal(mode);
        let mut seen = Vec::new();
        for entry in text.split([',', '\n']).map(str::trim).filter(|entry| !entry.is_empty()) {
            let parts: Vec<&str> = entry.split(':').collect();
            let &[tag, id, bits] = parts.as_slice() else {
                return Err(AclError::Entry(entry.to_owned()));
            };
            if seen.contains(&(tag, id)) {
                return Err(AclError::Twice(entry.to_owned()));
            }
            seen.push((tag, id));
            let access = permissions(bits).ok_or_else(|| AclError::Entry(entry.to_owned()))?;
            match (tag, id) {
                ("user" | "u", "") => acl.owner = access,
                ("group" | "g", "") => acl.group = access,
                ("mask" | "m", "") => acl.mask = Some(access),
                ("other" | "o", "") => acl.other = access,
                ("user" | "u", id) => acl.users.push((DiskUid::new(number(id)?), access)),
                ("group" | "g", id) => acl.groups.push((DiskGid::new(number(id)?), access)),
                _ => return Err(AclError::Entry(entry.to_owned())),
            }
        }
        acl.users.sort_unstable();
        acl.groups.sort_unstable();
        if acl.mask.is_none() && acl.has_named_entries() {
            acl.mask = Some(acl.group_class());
        }
        Ok(acl)
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
        let nine = (self.owner.bits() as u16) << 6 | (group.bits() as u16) << 3 | self.other.bits() as u16;
        Mode::new(mode.bits() & 0o7000 | nine)
    }

    /// The ACL and mode of an inode created with `mode` below a directory with this default ACL
    /// (`posix_acl_create_masq` in fs/posix_acl.c).
    #[must_use]
    pub fn inherited(&self, mode: Mode) -> (Self, Mode) {
        let mut acl = self.clone();
        acl.owner = acl.owner.masked(mode.owner());
        match acl.mask {
            Some(mask) => acl.mask = Some(mask.masked(mode.group())),
            None => acl.group = acl.group.masked(mode.group()),
        }
        acl.other = acl.other.masked(mode.other());
        let mode = acl.applied_to(mode);
        (acl, mode)
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
        let (acl, mode) = default.inherited(Mode::new(0o666));
        assert_eq!((acl.mask, mode), (Some(Access::READ_WRITE), Mode::new(0o660)));
    }
}
