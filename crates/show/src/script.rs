//! What an administrator types, as a shell script that may run twice.

use std::collections::BTreeMap;
use std::io::{self, Write};

use mivask_core::act::Node;
use mivask_core::change::Accounts;
use mivask_core::mode::FileKind;
use mivask_core::place::ChangedPlace;
use mivask_core::script::{AccountLine, Action, Typed};

use crate::safe::safe;
use crate::shell::{self, ON_HOST, word};

/// Paths in one command at most.
const MOST_TOGETHER: usize = 20;

/// Prints the commands, each group under a comment that says where it is run.
///
/// # Errors
/// Whatever `out` refuses.
pub fn script(out: &mut dyn Write, lines: &[Typed]) -> io::Result<()> {
    writeln!(out, "#!/bin/sh\nset -e")?;
    let later = Later::of(lines);
    let mut last = String::new();
    let mut at = 0;
    while at < lines.len() {
        let (place, text, taken) = match &lines[at] {
            Typed::Path { actor, place, below, action } => {
                let guard = later.guard(at, place, action);
                let same = if guard.is_empty() { together(&lines[at..]) } else { vec![place.path()] };
                (ground(place, actor), format!("{guard}{}", command(action, &same, *below)), same.len())
            }
            Typed::Account(line) => (accounts_of(line), account(&line.what), 1),
            Typed::Security(what) => (ON_HOST.to_owned(), shell::security(what).join("\n"), 1),
            Typed::NoLabel(path) => (ON_HOST.to_owned(), shell::no_label(path).join("\n"), 1),
            Typed::Note(text) => (last.clone(), format!("# {}", safe(text)), 1),
        };
        if place != last {
            writeln!(out, "\n# {place}")?;
            last = place;
        }
        writeln!(out, "{text}")?;
        at += taken;
    }
    if lines.is_empty() {
        writeln!(out, "# nothing is different")?;
    }
    Ok(())
}

/// What becomes of paths further down, so that a second run does not meet what the first one left.
struct Later<'a> {
    /// By path: the last line that moves it away or removes it, and where it is moved to.
    gone: BTreeMap<&'a [u8], (usize, Option<&'a [u8]>)>,
}

impl<'a> Later<'a> {
    fn of(lines: &'a [Typed]) -> Self {
        let mut gone = BTreeMap::new();
        for (at, line) in lines.iter().enumerate() {
            let Typed::Path { place, action, .. } = line else { continue };
            if let Action::Move(to) = action {
                gone.insert(place.path(), (at, Some(to.as_slice())));
            } else if matches!(action, Action::Remove | Action::RemoveDirectory) {
                gone.insert(place.path(), (at, None));
            }
        }
        Self { gone }
    }

    /// What is asked in front of the command at `at`.
    fn guard(&self, at: usize, place: &ChangedPlace, action: &Action) -> String {
        let path = place.path();
        let Some((_, to)) = self.gone.get(path).filter(|(later, _)| *later > at) else {
            return String::new();
        };
        match (action, to) {
            (Action::Owner { .. } | Action::Mode(_), _)
            | (Action::Acl(_) | Action::NoAcl | Action::DefaultAcl(_) | Action::NoDefaultAcl, _) => {
                format!("[ ! -e {0} ] && [ ! -h {0} ] || ", word(path))
            }
            (Action::Remove | Action::RemoveDirectory | Action::Move(_), _) | (_, None) => String::new(),
            // Made again, it would take the place of the one that was moved.
            (_, Some(to)) => format!("[ -e {} ] || ", word(to)),
        }
    }
}

/// The paths of the lines at the beginning that do the same in the same place.
fn together(lines: &[Typed]) -> Vec<&[u8]> {
    let Some(Typed::Path { actor, place, below, action }) = lines.first() else { return Vec::new() };
    let mut paths: Vec<&[u8]> = vec![place.path()];
    if !matches!(action, Action::Owner { .. } | Action::Mode(_) | Action::Acl(_) | Action::NoAcl) {
        return paths;
    }
    let here = ground(place, actor);
    for line in &lines[1..] {
        let Typed::Path { actor, place, below: deep, action: other } = line else { break };
        let same = other == action && deep == below && ground(place, actor) == here;
        if !same || paths.len() == MOST_TOGETHER {
            break;
        }
        paths.push(place.path());
    }
    paths
}

/// Where commands are run, and by whom.
fn ground(place: &ChangedPlace, actor: &str) -> String {
    match place {
        ChangedPlace::Host(_) => ON_HOST.to_owned(),
        ChangedPlace::Volume(name, _) => {
            format!("as root, where {} is mounted as {} has it", safe(name), safe(actor))
        }
        ChangedPlace::Image(name, _) => {
            format!(
                "as root in the container of {} (image {}), until it is made again",
                safe(actor),
                safe(name)
            )
        }
    }
}

fn accounts_of(line: &AccountLine) -> String {
    if line.whose == "host" {
        return "as root, wherever these accounts are: the host, or the build of an image".to_owned();
    }
    format!("as root, in the build of the image of {}", safe(&line.whose))
}

fn command(action: &Action, paths: &[&[u8]], below: bool) -> String {
    let all: Vec<String> = paths.iter().map(|path| word(path)).collect();
    let path = all.join(" ");
    let deep = if below { " -R" } else { "" };
    match action {
        Action::Owner { uid, gid } => {
            let id = |id: &Option<u32>| id.map_or_else(String::new, |id| id.to_string());
            let link = if below { "" } else { " -h" };
            match (uid, gid) {
                (None, gid) => format!("chgrp{deep}{link} {} {path}", id(gid)),
                (uid, None) => format!("chown{deep}{link} {} {path}", id(uid)),
                (uid, gid) => format!("chown{deep}{link} {}:{} {path}", id(uid), id(gid)),
            }
        }
        // Five digits say that a set-group-ID bit that is not among them goes.
        Action::Mode(change) if change.is_number() => format!("chmod{deep} 0{change} {path}"),
        Action::Mode(change) => format!("chmod{deep} {change} {path}"),
        Action::Acl(text) => format!("setfacl --set {text} {path}"),
        Action::NoAcl => format!("setfacl -b {path}"),
        Action::DefaultAcl(text) => format!("setfacl -d --set {text} {path}"),
        Action::NoDefaultAcl => format!("setfacl -k {path}"),
        Action::File => format!("[ -e {path} ] || : > {path}"),
        Action::Directory => format!("[ -d {path} ] || mkdir {path}"),
        Action::Fifo => format!("[ -p {path} ] || mkfifo {path}"),
        Action::Node(node) => made(*node, &path),
        Action::Link(target) => format!("[ -h {path} ] || ln -s {} {path}", word(target)),
        Action::Name(old) => format!("[ -e {path} ] || ln {} {path}", word(old)),
        Action::Move(to) => format!("[ ! -e {path} ] || mv {path} {}", word(to)),
        Action::Remove => format!("rm -f {path}"),
        Action::RemoveDirectory => format!("[ ! -d {path} ] || rmdir {path}"),
    }
}

fn made(node: Node, path: &str) -> String {
    let letter = match node.kind {
        FileKind::BlockDevice => 'b',
        FileKind::Socket => return format!("# {path} is a socket: the program that listens makes it"),
        FileKind::File | FileKind::Directory | FileKind::Link | FileKind::Fifo | FileKind::CharDevice => 'c',
    };
    format!("[ -e {path} ] || mknod {path} {letter} {} {}", node.device.major, node.device.minor)
}

fn account(what: &Accounts) -> String {
    let word = |text: &str| word(text.as_bytes());
    match what {
        Accounts::Joins(user, group) => format!("usermod -a -G {} {}", word(group), word(user)),
        Accounts::Parts(user, group) => {
            let (user, group) = (word(user), word(group));
            format!("! id -n -G {user} | tr ' ' '\\n' | grep -qxF {group} || gpasswd -d {user} {group}")
        }
        Accounts::PrimaryGroup(group, user) => format!("usermod -g {} {}", word(group), word(user)),
        Accounts::Adds(group, gid) => {
            let group = word(group);
            format!("getent group {group} > /dev/null || groupadd -g {gid} {group}")
        }
        Accounts::AddsNext(group, system) => {
            let group = word(group);
            let option = if *system { " -r" } else { "" };
            format!("getent group {group} > /dev/null || groupadd{option} {group}")
        }
        Accounts::OnlyGroups(groups, user) => {
            let groups = if groups.is_empty() { "''".to_owned() } else { word(groups) };
            format!("usermod -G {groups} {}", word(user))
        }
        Accounts::AddsUser(user, given) => {
            let user = word(user);
            let options = match given {
                None => String::new(),
                Some((uid, None)) => format!(" -u {uid}"),
                Some((uid, Some(group))) => format!(" -u {uid} -g {}", word(group)),
            };
            format!("getent passwd {user} > /dev/null || useradd{options} {user}")
        }
        Accounts::RenamesUser(user, new) => {
            let (user, new) = (word(user), word(new));
            format!("! getent passwd {user} > /dev/null || usermod -l {new} {user}")
        }
        Accounts::RenumbersUser(user, uid) => {
            let user = word(user);
            format!("[ \"$(id -u {user})\" = {uid} ] || usermod -u {uid} {user}")
        }
        Accounts::RemovesUser(user) => {
            let user = word(user);
            format!("! getent passwd {user} > /dev/null || userdel {user}")
        }
        Accounts::Renames(name, new) => {
            let (name, new) = (word(name), word(new));
            format!("! getent group {name} > /dev/null || groupmod -n {new} {name}")
        }
        Accounts::Renumbers(name, gid) => format!("groupmod -g {gid} {}", word(name)),
        Accounts::Removes(name) => {
            let name = word(name);
            format!("! getent group {name} > /dev/null || groupdel {name}")
        }
    }
}
