//! The account databases of an image: its passwd and group files.

use std::sync::Arc;

use crate::fact::{Provenance, Unknown};

/// One line of a passwd file (passwd(5)).
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct UserLine {
    /// Login name.
    pub name: String,
    /// Inside user id, as the runtimes' parsers read it.
    pub uid: u32,
    /// Primary inside group id.
    pub gid: u32,
    /// Line of the file, from 1.
    pub line: usize,
}

/// One line of a group file (group(5)).
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct GroupLine {
    /// Group name.
    pub name: String,
    /// Inside group id.
    pub gid: u32,
    /// Names of the members, exactly as written.
    pub members: Vec<String>,
    /// Line of the file, from 1.
    pub line: usize,
}

/// A file of accounts with its name, so that a fact can point into it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct AccountFile<L> {
    /// The file as the user named it.
    pub file: Arc<str>,
    /// Its lines in order.
    pub lines: Vec<L>,
}

impl<L> AccountFile<L> {
    /// Where `line` of this file stands.
    #[must_use]
    pub fn place(&self, line: usize) -> Provenance {
        Provenance::Accounts { file: self.file.clone(), line }
    }
}

/// The two account files of an image; `None` where the image has no such file.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Accounts {
    /// `/etc/passwd`.
    pub passwd: Option<AccountFile<UserLine>>,
    /// `/etc/group`.
    pub group: Option<AccountFile<GroupLine>>,
    /// What may have added lines that are not listed here; `None` where these are all.
    pub incomplete: Option<Unknown>,
}

impl Accounts {
    /// The first passwd line with this name.
    #[must_use]
    pub fn user_by_name(&self, name: &str) -> Option<(&UserLine, Provenance)> {
        self.find_user(|line| line.name == name)
    }

    /// The first passwd line with this user id.
    #[must_use]
    pub fn user_by_uid(&self, uid: u32) -> Option<(&UserLine, Provenance)> {
        self.find_user(|line| line.uid == uid)
    }

    /// The first group line with this name.
    #[must_use]
    pub fn group_by_name(&self, name: &str) -> Option<(&GroupLine, Provenance)> {
        self.find_group(|line| line.name == name)
    }

    /// The groups whose member list names `user`, in file order.
    pub fn memberships<'a>(&'a self, user: &'a str) -> impl Iterator<Item = (&'a GroupLine, Provenance)> {
        self.group.iter().flat_map(move |file| {
            let members = file.lines.iter().filter(move |line| line.members.iter().any(|name| name == user));
            members.map(|line| (line, file.place(line.line)))
        })
    }

    fn find_user(&self, wanted: impl Fn(&UserLine) -> bool) -> Option<(&UserLine, Provenance)> {
        let file = self.passwd.as_ref()?;
        file.lines.iter().find(|line| wanted(line)).map(|line| (line, file.place(line.line)))
    }

    fn find_group(&self, wanted: impl Fn(&GroupLine) -> bool) -> Option<(&GroupLine, Provenance)> {
        let file = self.group.as_ref()?;
        file.lines.iter().find(|line| wanted(line)).map(|line| (line, file.place(line.line)))
    }
}
