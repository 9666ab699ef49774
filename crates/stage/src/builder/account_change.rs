//! `groupmod`, `groupdel`, `userdel`, `gpasswd` and their short cousins: accounts that change or go (docs/facts/tools.md section 3).

use mivask_model::accounts::Accounts;
use mivask_model::fact::{Provenance, Unknown};
use mivask_model::host_mounts::is_within;
use mivask_model::tree::Spot;

use super::ground::BuildState;
use super::options::Grammar;
use crate::identity::Knowledge;
use crate::recipe::{BuildStep, Copy, CopySource};

/// Tools that change account files: what they leave where their form is not followed is not known.
pub(super) const ACCOUNT_TOOLS: [&str; 17] = [
    "groupmod",
    "groupdel",
    "userdel",
    "gpasswd",
    "deluser",
    "delgroup",
    "usermod",
    "useradd",
    "groupadd",
    "adduser",
    "addgroup",
    "newusers",
    "vipw",
    "vigr",
    "groupmems",
    "pwconv",
    "grpconv",
];

/// The account files of an image.
const FILES: [&[u8]; 2] = [b"/etc/passwd", b"/etc/group"];

const GROUP_MOD: Grammar = Grammar {
    valued: "gnp",
    plain: "o",
    long: &[("gid", 'g'), ("new-name", 'n'), ("password", 'p'), ("non-unique", 'o')],
};

const GROUP_PASSWORD: Grammar = Grammar { valued: "ad", plain: "", long: &[("add", 'a'), ("delete", 'd')] };

const BARE: Grammar = Grammar { valued: "", plain: "fq", long: &[("force", 'f'), ("quiet", 'q')] };

impl BuildState<'_> {
    /// Carries one of them out; `None` where its form is not followed, or what it changes is not all given.
    pub(super) fn account_change(&mut self, tool: &str, words: &[&str], step: &BuildStep) -> Option<()> {
        if self.missing_accounts().is_some() {
            return None;
        }
        match tool {
            "groupmod" => self.group_changes(words, step),
            "gpasswd" => {
                let parsed = GROUP_PASSWORD.parse(words)?;
                let [group] = parsed.words.as_slice() else { return None };
                match (parsed.value('a'), parsed.value('d')) {
                    (Some(user), None) => self.member(user, group, true, step),
                    (None, Some(user)) => self.member(user, group, false, step),
                    _ => return None,
                }
                Some(())
            }
            _ => {
                let parsed = BARE.parse(words)?;
                match (tool, parsed.words.as_slice()) {
                    ("deluser", [user, group]) => self.member(user, group, false, step),
                    ("deluser" | "userdel", [user]) => self.user_goes(user, step),
                    ("delgroup" | "groupdel", [group]) => self.group_goes(group, parsed.has('f'), step),
                    _ => return None,
                }
                Some(())
            }
        }
    }

    fn group_changes(&mut self, words: &[&str], step: &BuildStep) -> Option<()> {
        let parsed = GROUP_MOD.parse(words)?;
        let [name] = parsed.words.as_slice() else { return None };
        let gid: Option<u32> = parsed.value('g').map(str::parse).transpose().ok()?;
        let new = parsed.value('n');
        let groups = self.accounts_mut().group.get_or_insert_default();
        let taken = gid.filter(|gid| groups.iter().any(|line| line.gid == *gid && line.name != *name));
        let named = new.filter(|new| groups.iter().any(|line| line.name == *new));
        let Some(line) = groups.iter_mut().find(|line| line.name == *name) else {
            self.fail(&step.words, &format!("there is no group `{name}`"), &step.from);
            return Some(());
        };
        if let Some(gid) = taken.filter(|_| !parsed.has('o')) {
            self.fail(&step.words, &format!("{gid} is another group's"), &step.from);
            return Some(());
        }
        if let Some(new) = named {
            self.fail(&step.words, &format!("there is a group `{new}` already"), &step.from);
            return Some(());
        }
        let old = line.gid;
        line.gid = gid.unwrap_or(old);
        line.name = new.map_or_else(|| line.name.clone(), str::to_owned);
        line.from = step.from.clone();
        let (is, from) = (line.gid, step.from.clone());
        for user in
            self.accounts_mut().passwd.iter_mut().flatten().filter(|user| user.gid == old && is != old)
        {
            (user.gid, user.from) = (is, from.clone());
        }
        Some(())
    }

    fn member(&mut self, user: &str, group: &str, joins: bool, step: &BuildStep) {
        let groups = self.accounts_mut().group.get_or_insert_default();
        let Some(line) = groups.iter_mut().find(|line| line.name == group) else {
            return self.fail(&step.words, &format!("there is no group `{group}`"), &step.from);
        };
        let at = line.members.iter().position(|member| member == user);
        match (at, joins) {
            (None, true) => line.members.push(user.to_owned()),
            (Some(at), false) => drop(line.members.remove(at)),
            (Some(_), true) => {}
            (None, false) => {
                return self.fail(&step.words, &format!("`{user}` is not a member of `{group}`"), &step.from);
            }
        }
        line.from = step.from.clone();
    }

    fn user_goes(&mut self, user: &str, step: &BuildStep) {
        let accounts = self.accounts_mut();
        let lines = accounts.passwd.get_or_insert_default();
        let Some(at) = lines.iter().position(|line| line.name == user) else {
            return self.fail(&step.words, &format!("there is no user `{user}`"), &step.from);
        };
        let gone = lines.remove(at);
        let others = lines.iter().any(|line| line.gid == gone.gid);
        let groups = accounts.group.get_or_insert_default();
        groups.iter_mut().for_each(|line| line.members.retain(|member| member != user));
        // A group of the user's own goes along (USERGROUPS_ENAB, which distributions set).
        groups.retain(|line| others || line.name != user || line.gid != gone.gid || !line.members.is_empty());
    }

    fn group_goes(&mut self, group: &str, forced: bool, step: &BuildStep) {
        let accounts = self.accounts_mut();
        let groups = accounts.group.get_or_insert_default();
        let Some(at) = groups.iter().position(|line| line.name == group) else {
            return self.fail(&step.words, &format!("there is no group `{group}`"), &step.from);
        };
        let gid = groups[at].gid;
        let primary =
            accounts.passwd.iter().flatten().find(|line| line.gid == gid).map(|line| line.name.clone());
        if let Some(user) = primary.filter(|_| !forced) {
            return self.fail(&step.words, &format!("it is the primary group of `{user}`"), &step.from);
        }
        if let Some(groups) = &mut self.accounts_mut().group {
            groups.remove(at);
        }
    }

    /// Where the account files that are there come from.
    pub(super) fn account_files(&self) -> [Option<Provenance>; 2] {
        FILES.map(|path| match self.tree.resolve(path, true) {
            Spot::There(id) => Some(self.tree.place(id)),
            Spot::Missing { .. } | Spot::Unlisted { .. } | Spot::Nowhere(_) => None,
        })
    }

    /// Account files were copied over those of `before`: what is in them is known where they come from another image.
    pub(super) fn accounts_copied(
        &mut self,
        before: &[Option<Provenance>; 2],
        (copy, other): (&Copy, &Knowledge<Accounts>),
        step: &BuildStep,
    ) {
        let now = self.account_files();
        let whole = |path: &[u8]| copy.sources.iter().any(|source| comes_from(source, &copy.to, path));
        let given = match other {
            Knowledge::Known(accounts) if accounts.incomplete.is_none() => Some(accounts),
            Knowledge::Known(_) | Knowledge::Unknown => None,
        };
        for (index, path) in FILES.into_iter().enumerate().filter(|(index, _)| before[*index] != now[*index])
        {
            match given.filter(|_| whole(path)) {
                Some(given) if index == 0 => self.accounts_mut().passwd = given.passwd.clone(),
                Some(given) => self.accounts_mut().group = given.group.clone(),
                None => {
                    let fact = format!("what is in the account files after {}", step.words);
                    let settle = "give `accounts` for the built image in a scene file";
                    return self.forget_accounts(Unknown::new(&fact, settle));
                }
            }
        }
    }

    /// What becomes of accounts through `step` is not known: none of them is certain any more.
    pub(super) fn forget_accounts(&mut self, unknown: Unknown) {
        *self.accounts_mut() = Accounts { incomplete: Some(unknown), ..Accounts::default() };
    }
}

/// Whether a copy of `source` to `to` puts the file `path` of the other image at `path`: it is that file, or a directory above it,
/// whose contents go where they were.
fn comes_from(source: &CopySource, to: &[u8], path: &[u8]) -> bool {
    let CopySource::Path(source) = source else { return false };
    let plain = |path: &[u8]| [b"/", trimmed(path)].concat();
    let (source, to) = (plain(source), plain(to));
    source == path || source == to && is_within(path, &source)
}

/// Without slashes at its ends.
fn trimmed(path: &[u8]) -> &[u8] {
    let start = path.iter().position(|byte| *byte != b'/').unwrap_or(path.len());
    let end = path.iter().rposition(|byte| *byte != b'/').map_or(start, |at| at + 1);
    &path[start..end]
}

/// Whether the words of a step are about account files.
pub(super) fn changes_accounts(words: &str, names: &[Vec<u8>]) -> bool {
    let of_tool = |word: &str| ACCOUNT_TOOLS.contains(&word.rsplit('/').next().unwrap_or(word));
    let mut all = words.split(|c: char| !(c.is_alphanumeric() || matches!(c, '/' | '-' | '_' | '.')));
    all.any(|word| of_tool(word) || FILES.contains(&word.as_bytes()))
        || names.iter().any(|name| FILES.contains(&name.as_slice()))
}
