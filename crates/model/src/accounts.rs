//! The account databases of an image: its passwd and group files.

use crate::fact::{Provenance, Unknown};

/// One line of a passwd file (passwd(5)).
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct UserLine {
    /// Login name.
    pub name: String,
    /// Inside user id, as the runtimes' parsers read it.
    pub uid: u32,
    /// The number in the file, where 32 bits do not hold it: `uid` is what it wraps to, and is not found by it.
    pub wrapped: Option<i64>,
    /// Primary inside group id.
    pub gid: u32,
    /// Where it is, or what added it.
    pub from: Provenance,
}

/// One line of a group file (group(5)).
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct GroupLine {
    /// Group name.
    pub name: String,
    /// Inside group id.
    pub gid: u32,
    /// The number in the file, where 32 bits do not hold it: `gid` is what it wraps to, and is not found by it.
    pub wrapped: Option<i64>,
    /// Names of the members, exactly as written.
    pub members: Vec<String>,
    /// Where it is, or what added it.
    pub from: Provenance,
}

impl UserLine {
    /// A line that somebody adds.
    #[must_use]
    pub fn new(name: &str, uid: u32, gid: u32, from: Provenance) -> Self {
        Self { name: name.to_owned(), uid, wrapped: None, gid, from }
    }

    /// The user id as the runtimes look it up: the number of the file.
    #[must_use]
    pub fn number(&self) -> i64 {
        self.wrapped.unwrap_or_else(|| self.uid.into())
    }
}

impl GroupLine {
    /// A line without members that somebody adds.
    #[must_use]
    pub fn new(name: &str, gid: u32, from: Provenance) -> Self {
        Self { name: name.to_owned(), gid, wrapped: None, members: Vec::new(), from }
    }

    /// The group id as the runtimes look it up: the number of the file.
    #[must_use]
    pub fn number(&self) -> i64 {
        self.wrapped.unwrap_or_else(|| self.gid.into())
    }
}

/// The two account files of an image; `None` where the image has no such file.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Accounts {
    /// `/etc/passwd`.
    pub passwd: Option<Vec<UserLine>>,
    /// `/etc/group`.
    pub group: Option<Vec<GroupLine>>,
    /// What may have added lines that are not listed here; `None` where these are all.
    pub incomplete: Option<Unknown>,
}

impl Accounts {
    /// The first passwd line with this name.
    #[must_use]
    pub fn user_by_name(&self, name: &str) -> Option<(&UserLine, Provenance)> {
        self.find_user(|line| line.name == name)
    }

    /// The first passwd line with this user id, which may be one that 32 bits do not hold.
    #[must_use]
    pub fn user_by_uid(&self, uid: impl Into<i64>) -> Option<(&UserLine, Provenance)> {
        let uid = uid.into();
        self.find_user(|line| line.number() == uid)
    }

    /// The first group line with this group id, which may be one that 32 bits do not hold.
    #[must_use]
    pub fn group_by_gid(&self, gid: impl Into<i64>) -> Option<(&GroupLine, Provenance)> {
        let gid = gid.into();
        self.find_group(|line| line.number() == gid)
    }

    /// The first group line with this name.
    #[must_use]
    pub fn group_by_name(&self, name: &str) -> Option<(&GroupLine, Provenance)> {
        self.find_group(|line| line.name == name)
    }

    /// The groups whose member list names `user`, in file order.
    pub fn memberships<'a>(&'a self, user: &'a str) -> impl Iterator<Item = (&'a GroupLine, Provenance)> {
        self.group.iter().flat_map(move |lines| {
            let members = lines.iter().filter(move |line| line.members.iter().any(|name| name == user));
            members.map(|line| (line, line.from.clone()))
        })
    }

    fn find_user(&self, wanted: impl Fn(&UserLine) -> bool) -> Option<(&UserLine, Provenance)> {
        self.passwd.as_ref()?.iter().find(|line| wanted(line)).map(|line| (line, line.from.clone()))
    }

    fn find_group(&self, wanted: impl Fn(&GroupLine) -> bool) -> Option<(&GroupLine, Provenance)> {
        self.group.as_ref()?.iter().find(|line| wanted(line)).map(|line| (line, line.from.clone()))
    }
}
