//! Changes of files as commands of a shell.

use mivask_core::act::{Owner, Verb};
use mivask_core::change::Change;
use mivask_core::remedy::{ChangedPlace, Remedy};

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
    let escaped: String = path.iter().map(|byte| format!("\\{byte:03o}")).collect();
    format!("\"$(printf '{escaped}')\"")
}

/// The commands of a remedy that change files, each group under a comment that says where.
#[must_use]
pub fn commands(remedy: &Remedy) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    let mut last = String::new();
    for step in &remedy.steps {
        let (Change::Files(act) | Change::Image(act), Some(there)) = (&step.change, &step.there) else {
            continue;
        };
        let (place, path, prefix) = match &there.place {
            ChangedPlace::Host(path) if there.apart => {
                let who = safe(&act.actor);
                (format!("on the host, as root, outside of {who}'s user namespace: its ids there"), path, "")
            }
            ChangedPlace::Host(path) => ("on the host, as root".to_owned(), path, ""),
            ChangedPlace::Volume(name, path) => {
                let (name, who) = (safe(name), safe(&act.actor));
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
        if place != last {
            all.push(format!("# {place}"));
            last = place;
        }
        all.push(format!("{prefix}{}", command(&there.verb, path)));
    }
    all
}

fn command(verb: &Verb, path: &[u8]) -> String {
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
        assert_eq!(word(b"/\xff\n"), "\"$(printf '\\057\\377\\012')\"");
        assert_eq!(word(b""), "''");
    }
}
