//! `adduser`, `addgroup`, `useradd`, `groupadd` and `usermod` in their plain forms.
//!
//! Two families share the names: the short options of small images, and the long ones of large ones. Where the
//! number that a tool picks is certain only as long as its defaults are, that is a named assumption.

use mivask_model::accounts::{GroupLine, UserLine};
use mivask_model::act::quoted;
use mivask_model::fact::Unknown;
use mivask_model::mode::FileKind;
use mivask_model::tree::{Certainty, Doubt, Entry, Spot};

use super::ground::{BuildState, Number};
use super::names::Found;
use super::options::{Grammar, Parsed};
use crate::recipe::BuildStep;

/// Ids of ordinary accounts, as every tool has it by default.
const ORDINARY: std::ops::Range<u32> = 1000..60_000;
/// Ids of the system's accounts where they are given upwards.
const SYSTEM: std::ops::Range<u32> = 100..1000;

const ADD_USER: Grammar = Grammar {
    valued: "hgsGuki",
    plain: "SDHqpx",
    long: &[
        ("home", 'h'),
        ("gecos", 'g'),
        ("comment", 'g'),
        ("shell", 's'),
        ("ingroup", 'G'),
        ("gid", 'i'),
        ("uid", 'u'),
        ("skel", 'k'),
        ("system", 'S'),
        ("disabled-password", 'D'),
        ("disabled-login", 'D'),
        ("no-create-home", 'H'),
        ("quiet", 'q'),
        ("group", 'p'),
        ("force-badname", 'x'),
        ("allow-bad-names", 'x'),
    ],
};

const ADD_GROUP: Grammar = Grammar {
    valued: "g",
    plain: "Sqx",
    long: &[("gid", 'g'), ("system", 'S'), ("quiet", 'q'), ("force-badname", 'x'), ("allow-bad-names", 'x')],
};

const USER_ADD: Grammar = Grammar {
    valued: "ugGdsckKefbp",
    plain: "rmMNUol",
    long: &[
        ("uid", 'u'),
        ("gid", 'g'),
        ("groups", 'G'),
        ("home-dir", 'd'),
        ("home", 'd'),
        ("shell", 's'),
        ("comment", 'c'),
        ("skel", 'k'),
        ("key", 'K'),
        ("password", 'p'),
        ("system", 'r'),
        ("create-home", 'm'),
        ("no-create-home", 'M'),
        ("no-user-group", 'N'),
        ("user-group", 'U'),
        ("non-unique", 'o'),
        ("no-log-init", 'l'),
    ],
};

const GROUP_ADD: Grammar = Grammar {
    valued: "gpK",
    plain: "rof",
    long: &[("gid", 'g'), ("system", 'r'), ("non-unique", 'o'), ("force", 'f'), ("password", 'p')],
};

const USER_MOD: Grammar = Grammar {
    valued: "ugGdscefpl",
    plain: "amoLU",
    long: &[
        ("uid", 'u'),
        ("gid", 'g'),
        ("groups", 'G'),
        ("append", 'a'),
        ("home", 'd'),
        ("move-home", 'm'),
        ("shell", 's'),
        ("comment", 'c'),
        ("login", 'l'),
        ("non-unique", 'o'),
        ("lock", 'L'),
        ("unlock", 'U'),
    ],
};

/// What is asked of a new account, whichever tool adds it.
struct Wanted<'a> {
    name: &'a str,
    uid: Option<&'a str>,
    system: bool,
    /// Whether the tool gives the system's ids downwards, which depends on more than the accounts.
    downwards: bool,
    group: Group<'a>,
    further: Vec<&'a str>,
    home: String,
    makes_home: Option<bool>,
}

enum Group<'a> {
    /// An existing one, by name or number.
    Named(&'a str),
    /// One of the account's own name and number; an assumption where that is a setting of the tool.
    Own { assumed: bool },
    /// The one that is called so by default.
    Default(&'static str),
}

impl BuildState<'_> {
    /// Carries out an account command; `None` where its form is not understood.
    pub(super) fn account_command(&mut self, tool: &str, words: &[&str], step: &BuildStep) -> Option<()> {
        match tool {
            "adduser" => {
                let parsed = ADD_USER.parse(words)?;
                match parsed.words.as_slice() {
                    [user, group] => self.join(user, group, step),
                    [name] => self.add_user(&wanted_of_adduser(&parsed, name), step),
                    _ => return None,
                }
            }
            "addgroup" => {
                let parsed = ADD_GROUP.parse(words)?;
                match parsed.words.as_slice() {
                    [user, group] => self.join(user, group, step),
                    [name] => self.add_group(name, parsed.value('g'), parsed.has('S'), false, step),
                    _ => return None,
                }
            }
            "useradd" => {
                let parsed = USER_ADD.parse(words)?;
                let [name] = parsed.words.as_slice() else { return None };
                self.add_user(&wanted_of_useradd(&parsed, name), step)
            }
            "groupadd" => {
                let parsed = GROUP_ADD.parse(words)?;
                let [name] = parsed.words.as_slice() else { return None };
                self.add_group(name, parsed.value('g'), parsed.has('r'), parsed.has('r'), step)
            }
            "usermod" => {
                let parsed = USER_MOD.parse(words)?;
                let [name] = parsed.words.as_slice() else { return None };
                self.change_user(name, &parsed, step)?
            }
            _ => return None,
        }
        Some(())
    }

    /// The number of something new: the one asked for, else the one that the tools' defaults give.
    fn new_number(
        &mut self,
        asked: Option<&str>,
        (system, downwards): (bool, bool),
        taken: &dyn Fn(u32) -> bool,
        step: &BuildStep,
    ) -> Number {
        let open = |why: &Unknown| Err(why.clone());
        let fact = format!("the number that {} gives", step.words);
        let unknown = Unknown::new(&fact, "name the number there, or give `accounts` for the built image");
        if let Some(asked) = asked {
            return asked.parse().map_err(|_| unknown);
        }
        let missing = self.missing_accounts();
        // System accounts are numbered downwards by one tool and upwards by another, from ends that a configuration
        // file moves.
        if system && (downwards || missing.is_some()) {
            return open(&unknown);
        }
        let range = if system { SYSTEM } else { ORDINARY };
        let start = range.start;
        let first = range.clone().find(|id| !taken(*id));
        // Some tools fill the first gap, others go on behind the last one: they agree where there is no gap.
        let behind_last = range.rev().find(|id| taken(*id)).map_or(start, |last| last + 1);
        match first.filter(|first| system || *first == behind_last) {
            Some(id) => {
                let known = if missing.is_some() { ", and no earlier account has it" } else { "" };
                self.assume(format!("{} gives {id}: the first one free from {start}{known}", step.words));
                Ok(id)
            }
            None => open(&unknown),
        }
    }

    /// Someone else may have been added: no line of the account files is the last.
    pub(super) fn may_have_more_accounts(&mut self, unknown: Unknown) {
        self.accounts_mut().incomplete.get_or_insert(unknown);
    }

    fn add_group(&mut self, name: &str, gid: Option<&str>, system: bool, downwards: bool, step: &BuildStep) {
        let lines = self.accounts_mut().group.clone().unwrap_or_default();
        let taken = |id: u32| lines.iter().any(|line| line.gid == id);
        match self.new_number(gid, (system, downwards), &taken, step) {
            Ok(gid) => self.push_group(name, gid, step),
            Err(unknown) => self.may_have_more_accounts(unknown),
        }
    }

    fn push_group(&mut self, name: &str, gid: u32, step: &BuildStep) {
        let line = GroupLine::new(name, gid, step.from.clone());
        self.accounts_mut().group.get_or_insert_default().push(line);
    }

    fn add_user(&mut self, wanted: &Wanted<'_>, step: &BuildStep) {
        let lines = self.accounts_mut().passwd.clone().unwrap_or_default();
        let groups = self.accounts_mut().group.clone().unwrap_or_default();
        // An own group wants the account's number, so both have to be free.
        let own = matches!(wanted.group, Group::Own { .. });
        let taken = |id: u32| {
            lines.iter().any(|line| line.uid == id) || own && groups.iter().any(|line| line.gid == id)
        };
        let uid = self.new_number(wanted.uid, (wanted.system, wanted.downwards), &taken, step);
        let gid = match (&wanted.group, &uid) {
            (Group::Named(group), _) => self.existing_group(group, step),
            (Group::Default(group), _) => self.existing_group(group, step),
            (Group::Own { .. }, Ok(uid)) if groups.iter().any(|line| line.gid == *uid) => {
                let fact = format!("the group that {} makes, for {uid} is taken", step.words);
                Err(Unknown::new(&fact, "give `accounts` for the built image"))
            }
            (Group::Own { .. }, number) => number.clone(),
        };
        if matches!(wanted.group, Group::Own { assumed: true }) {
            self.assume(format!("{} makes a group of the account's own name and number", step.words));
        }
        match (uid.clone(), gid.clone()) {
            (Ok(uid), Ok(gid)) => {
                if own {
                    self.push_group(wanted.name, gid, step);
                }
                let line = UserLine::new(wanted.name, uid, gid, step.from.clone());
                self.accounts_mut().passwd.get_or_insert_default().push(line);
            }
            (Err(unknown), _) | (_, Err(unknown)) => self.may_have_more_accounts(unknown),
        }
        for group in &wanted.further {
            self.join(wanted.name, group, step);
        }
        self.make_home(wanted, &(uid, gid), step);
    }

    fn existing_group(&mut self, group: &str, step: &BuildStep) -> Number {
        if let Ok(gid) = group.parse() {
            return Ok(gid);
        }
        match self.group(group) {
            Found::Number(number) => number,
            Found::Missing => {
                self.fail(&step.words, &format!("there is no group `{group}`"), &step.from);
                Ok(0)
            }
        }
    }

    /// `user` becomes a member of `group`.
    fn join(&mut self, user: &str, group: &str, step: &BuildStep) {
        let lines = self.accounts_mut().group.get_or_insert_default();
        let number: Option<u32> = group.parse().ok();
        let line = lines.iter_mut().find(|line| line.name == group || Some(line.gid) == number);
        match line {
            Some(line) if line.members.iter().any(|member| member == user) => {}
            Some(line) => {
                line.members.push(user.to_owned());
                line.from = step.from.clone();
            }
            None => match self.missing_accounts() {
                Some(_) => {
                    let fact = format!("the number of the group that {} joins", step.words);
                    self.may_have_more_accounts(Unknown::new(&fact, "give `accounts` for the base image"));
                }
                None => self.fail(&step.words, &format!("there is no group `{group}`"), &step.from),
            },
        }
    }

    fn change_user(&mut self, name: &str, parsed: &Parsed<'_>, step: &BuildStep) -> Option<()> {
        // Renaming an account or moving its home changes files whose owners are not followed here.
        if parsed.has('l') || parsed.has('m') {
            return None;
        }
        let uid: Option<u32> = match parsed.value('u') {
            Some(uid) => Some(uid.parse().ok()?),
            None => None,
        };
        let gid = parsed.value('g').map(|group| self.existing_group(group, step));
        let further: Vec<&str> = parsed.value('G').map(|list| list.split(',').collect()).unwrap_or_default();
        let lines = self.accounts_mut().passwd.get_or_insert_default();
        let line = lines.iter_mut().find(|line| line.name == name);
        match (line, gid) {
            (_, Some(Err(unknown))) => self.may_have_more_accounts(unknown),
            (Some(line), gid) => {
                line.uid = uid.unwrap_or(line.uid);
                line.gid = gid.and_then(Result::ok).unwrap_or(line.gid);
                line.from = step.from.clone();
            }
            (None, gid) => match (self.missing_accounts(), uid, gid) {
                (None, _, _) => self.fail(&step.words, &format!("there is no user `{name}`"), &step.from),
                (Some(_), Some(uid), Some(Ok(gid))) => {
                    let line = UserLine::new(name, uid, gid, step.from.clone());
                    self.accounts_mut().passwd.get_or_insert_default().push(line);
                }
                (Some(_), ..) => {}
            },
        }
        // Without -a the list replaces the memberships.
        if !further.is_empty() && !parsed.has('a') {
            let groups = self.accounts_mut().group.iter_mut().flatten();
            groups.for_each(|line| line.members.retain(|member| member != name));
        }
        for group in further {
            self.join(name, group, step);
        }
        if uid.is_some() {
            // It changes the owner of what is in the home directory, wherever that is.
            let fact = format!("the owner of home directories after {}", step.words);
            let unknown = Unknown::new(&fact, "give the tree of the built image in a scene file");
            self.touched(b"/home", &unknown);
        }
        Some(())
    }

    /// The home directory of a new account: its owner is certain, its mode depends on the tool and its settings.
    fn make_home(&mut self, wanted: &Wanted<'_>, owner: &(Number, Number), step: &BuildStep) {
        if wanted.makes_home == Some(false) {
            return;
        }
        let path = wanted.home.as_bytes();
        let fact = format!("the mode of {} after {}", quoted(path), step.words);
        let unknown = Unknown::new(&fact, "set it with chmod, or give the tree of the built image");
        match (self.tree.resolve(path, true), wanted.makes_home) {
            (Spot::Missing { dir, names }, Some(true)) => {
                let mut own = self.entry(FileKind::Directory, owner, 0o755, &step.from);
                let unknown = Certainty::Unknown(unknown);
                own.doubt = Some(Doubt::new(unknown.clone(), unknown));
                let above = Entry::directory(0, 0, 0o755).at(step.from.clone());
                let home =
                    self.make_directories(dir, &names, |last| if last { own.clone() } else { above.clone() });
                if let (Ok(_), Ok(_)) = owner {
                    self.own(home, Some(&owner.0), Some(&owner.1), &step.from);
                }
            }
            (Spot::Missing { dir, .. }, _) => self.may_hold_more(dir, &unknown),
            (Spot::There(_) | Spot::Unlisted { .. } | Spot::Nowhere(_), _) => {}
        }
    }
}

fn wanted_of_adduser<'a>(parsed: &Parsed<'a>, name: &'a str) -> Wanted<'a> {
    let system = parsed.has('S');
    let named = parsed.value('G').or_else(|| parsed.value('i'));
    let group = match named {
        Some(group) => Group::Named(group),
        // Debian's and Alpine's adduser both put system users there unless told otherwise.
        None if system && !parsed.has('p') => Group::Default("nogroup"),
        None => Group::Own { assumed: false },
    };
    let home = parsed.value('h').map_or_else(|| format!("/home/{name}"), str::to_owned);
    let makes_home = match (parsed.has('H'), system) {
        (true, _) => Some(false),
        (false, true) => None,
        (false, false) => Some(true),
    };
    let uid = parsed.value('u');
    let further = Vec::new();
    Wanted { name, uid, system, downwards: false, group, further, home, makes_home }
}

fn wanted_of_useradd<'a>(parsed: &Parsed<'a>, name: &'a str) -> Wanted<'a> {
    let system = parsed.has('r');
    let group = match parsed.value('g') {
        Some(group) => Group::Named(group),
        None if parsed.has('N') => Group::Default("users"),
        // USERGROUPS_ENAB of login.defs decides, and is yes where distributions ship it.
        None => Group::Own { assumed: !parsed.has('U') },
    };
    let home = parsed.value('d').map_or_else(|| format!("/home/{name}"), str::to_owned);
    let makes_home = match (parsed.has('m'), parsed.has('M')) {
        (_, true) => Some(false),
        (true, false) => Some(true),
        // CREATE_HOME of login.defs decides; it differs between distributions.
        (false, false) => None,
    };
    let further = parsed.value('G').map(|list| list.split(',').collect()).unwrap_or_default();
    Wanted { name, uid: parsed.value('u'), system, downwards: system, group, further, home, makes_home }
}
