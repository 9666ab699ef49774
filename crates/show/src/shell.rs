//! Changes of files as commands of a shell.

use mivask_core::act::{Owner, Verb, quoted};
use mivask_core::change::{Change, Security};
use mivask_core::remedy::{ChangedPlace, InPlace, Remedy, Stored};

use crate::safe::safe;

/// A path as a shell takes it, whatever bytes it has.
#[must_use]
pub fn word(path: &[u8]) -> String {
    let plain = |byte: &u8| byte.is_ascii_alphanumeric() || b"/._-=:+,@%".contains(byte);
    if !path.is_empty() && path.iter().all(plain) {
        return String::from_utf8_lossy(path).into_owned();
    }
    let printable = std::str::from_utf8(path).ok().filter(|text| safe(text) == **text);
    if let Some(text) = printable {
        return format!("'{}'", text.replace('\'', "'\\''"));
    }
    // A shell takes line ends from the end of what a command prints.
    let ends = path.iter().rev().take_while(|byte| **byte == b'\n').count();
    let (path, lines) = path.split_at(path.len() - ends);
    let ends = if lines.is_empty() { String::new() } else { format!("'{}'", "\n".repeat(lines.len())) };
    let escaped: String = path.iter().map(|byte| format!("\\{byte:03o}")).collect();
    format!("\"$(printf '{escaped}')\"{ends}")
}

/// A change of the host's SELinux; what is said of labels already is changed, and all of it may be run twice.
#[must_use]
pub fn security(what: &Security) -> Vec<String> {
    match what {
        Security::Boolean(name, on) => {
            vec![format!("setsebool -P {} {}", word(name.as_bytes()), if *on { "on" } else { "off" })]
        }
        Security::Labels(path, type_) => {
            let (rule, type_) = (rule(path), word(type_.as_bytes()));
            vec![
                format!("semanage fcontext -a -t {type_} {rule} || semanage fcontext -m -t {type_} {rule}"),
                format!("restorecon -RFx {}", word(path)),
            ]
        }
    }
}

/// What takes a rule of labels back.
#[must_use]
pub fn no_label(path: &[u8]) -> Vec<String> {
    vec![format!("semanage fcontext -d {} || :", rule(path)), format!("restorecon -RFx {}", word(path))]
}

/// The path and all below it, as a regular expression of file_contexts(5).
fn rule(path: &[u8]) -> String {
    let path = path.strip_suffix(b"/").unwrap_or(path);
    let mut text = Vec::new();
    for byte in path {
        if b".^$?*+|[](){}\\".contains(byte) {
            text.push(b'\\');
        }
        text.push(*byte);
    }
    text.extend(b"(/.*)?");
    word(&text)
}

/// The commands of a remedy that change files outside of images, as a script that looks at every file before it changes
/// any, stops where one is neither as it was nor as it is to be, and may run twice; `None` where it changes no such file.
#[must_use]
pub fn script(remedy: &Remedy) -> Option<String> {
    let on_disk = |there: &&InPlace| !there.server && !matches!(there.place, ChangedPlace::Image(..));
    let there: Vec<&InPlace> =
        remedy.steps.iter().filter_map(|step| step.there.as_ref()).filter(on_disk).collect();
    let secures = remedy.steps.iter().any(|step| matches!(step.change, Change::Security(_)));
    (secures || !there.is_empty()).then_some(())?;
    let mut text = format!("#!/bin/sh\n# {}\nset -eu\n", safe(&remedy.answer.act.to_string()));
    text.push_str("[ \"$(id -u)\" = 0 ] || { echo 'run this as root' >&2; exit 1; }\n");
    text.push_str("is() { [ \"$(stat -L -c '%u:%g %a' -- \"$1\")\" = \"$2\" ]; }\n\n");
    let mut seen: Vec<&[u8]> = Vec::new();
    for one in &there {
        let path = one.place.path();
        if seen.contains(&path) {
            continue;
        }
        seen.push(path);
        let states: Vec<String> = [one.was, one.is].into_iter().flatten().map(stored).collect();
        let (path, shown) = (word(path), quoted(path));
        if let (Some(was), Some(_)) = (one.was.map(stored), one.is) {
            let checks: Vec<String> = states.iter().map(|state| format!("is {path} '{state}'")).collect();
            let told = format!("{shown} is not what was looked at, {was}: nothing is changed");
            let told = word(told.as_bytes());
            text.push_str(&format!("{} || {{ printf '%s\\n' {told} >&2; exit 1; }}\n", checks.join(" || ")));
        }
    }
    let mut elsewhere = false;
    for line in listed(remedy, &[], false) {
        if line.starts_with('#') {
            elsewhere = line.starts_with(ON_SERVER);
        } else if elsewhere {
            text.push_str(&format!("# {line}\n"));
            continue;
        }
        let line = match line.strip_prefix("RUN ") {
            Some(build) => format!("# RUN {build}"),
            None => line,
        };
        // What is there already is not made again.
        let path = line
            .strip_prefix("mkdir ")
            .and_then(|rest| rest.rsplit_once(' '))
            .map(|(_, path)| path.to_owned());
        let guard = path.map_or_else(String::new, |path| format!("[ -d {path} ] || "));
        text.push_str(&format!("{guard}{line}\n"));
    }
    Some(text)
}

/// Where most commands are run.
pub(crate) const ON_HOST: &str = "on the host, as root";

/// How the comment above commands for a server begins.
const ON_SERVER: &str = "# on the server that exports it";

/// As `stat -c '%u:%g %a'` prints it.
fn stored(stored: Stored) -> String {
    format!("{} {:o}", stored.owner, stored.mode.bits())
}

/// The commands of a remedy that change files, each group under a comment that says where; without those of `images`, whose
/// build files have them.
#[must_use]
pub fn commands(remedy: &Remedy, images: &[String]) -> Vec<String> {
    listed(remedy, images, true)
}

/// The same; with `unshare` as who starts an engine without root, where that user may.
fn listed(remedy: &Remedy, images: &[String], unshare: bool) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    let mut last = String::new();
    for step in &remedy.steps {
        let (place, lines) = match (&step.change, &step.there) {
            (Change::Security(what), _) => (ON_HOST.to_owned(), security(what)),
            (Change::Files(act) | Change::Image(act), Some(there)) => {
                let built = |name: &str| images.iter().any(|image| *image == name);
                if matches!(&there.place, ChangedPlace::Image(name, _) if built(name)) {
                    continue;
                }
                let (place, line) = on_files(&act.actor, there, unshare);
                (place, vec![line])
            }
            _ => continue,
        };
        if place != last {
            all.push(format!("# {place}"));
            last = place;
        }
        all.extend(lines);
    }
    all
}

/// Where a change of files is made, and its command; `unshare` as in [`listed`].
fn on_files(actor: &str, there: &InPlace, unshare: bool) -> (String, String) {
    let unshared = there.unshared.as_ref().filter(|_| unshare);
    if let (Some((who, verb)), ChangedPlace::Host(path)) = (unshared, &there.place) {
        let place = format!("as {}, in the namespace of its engine: its ids there", safe(who));
        return (place, format!("podman unshare {}", command(verb, path)));
    }
    let who = safe(actor);
    let (place, path, prefix) = match &there.place {
        ChangedPlace::Host(path) | ChangedPlace::Volume(_, path) if there.server => {
            (format!("{}, as root, at what is {who}'s path", &ON_SERVER[2..]), path, "")
        }
        ChangedPlace::Host(path) if there.apart => {
            (format!("on the host, as root, outside of {who}'s user namespace: its ids there"), path, "")
        }
        ChangedPlace::Host(path) => (ON_HOST.to_owned(), path, ""),
        ChangedPlace::Volume(name, path) => {
            let name = safe(name);
            let place = if there.apart {
                format!(
                    "as root outside of any user namespace, where {name} is mounted at {who}'s path without an id map"
                )
            } else {
                format!("as root, where {name} is mounted as {who} has it")
            };
            (place, path, "")
        }
        ChangedPlace::Image(name, path) => {
            (format!("in the build of image {}, as root", safe(name)), path, "RUN ")
        }
    };
    let one = command(&there.verb, path);
    let one = if there.recursive { one.replacen(' ', " -R ", 1) } else { one };
    (place, format!("{prefix}{one}"))
}

/// The command for one change of files.
#[must_use]
pub fn command(verb: &Verb, path: &[u8]) -> String {
    let path = word(path);
    if let Verb::SetsMode(change) = verb {
        return format!("chmod {change} {path}");
    }
    if let Verb::SetsOwner(Owner { uid: None, gid: Some(gid) }) | Verb::SetsGroup(gid) = verb {
        return format!("chgrp {gid} {path}");
    }
    if let Verb::SetsOwner(owner) = verb {
        return format!("chown {owner} {path}");
    }
    if let Verb::SetsAcl(acl) = verb {
        return format!("setfacl -m {acl} {path}");
    }
    if let Verb::SetsDefaultAcl(acl) = verb {
        return format!("setfacl -d -m {acl} {path}");
    }
    if let Verb::MakesDirectory(mode) = verb {
        return format!("mkdir -m {mode} {path}");
    }
    // Nothing else is among the changes of a remedy.
    format!("# {} {path}", verb.word())
}

#[cfg(test)]
mod tests {
    use super::word;

    #[test]
    fn any_bytes_reach_the_shell_as_they_are() {
        assert_eq!(word(b"/data/level.csv"), "/data/level.csv");
        assert_eq!(word(b"/a b"), "'/a b'");
        assert_eq!(word(b"/it's"), "'/it'\\''s'");
        assert_eq!(word(b"/\n\xff"), "\"$(printf '\\057\\012\\377')\"");
        assert_eq!(word(b"/\xff\n\n"), "\"$(printf '\\057\\377')\"'\n\n'");
        assert_eq!(word(b""), "''");
    }
}
