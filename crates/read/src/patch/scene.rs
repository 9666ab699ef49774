//! Keys of our own scene file.

use mivask_core::change::Process;
use yaml_edit::YamlValue;

use super::document::{Document, Part, above, below, quoted, text};
use super::{PatchError, no_field};
use crate::yaml::Node;

/// Writes `what` about the container.
pub(super) fn write(document: &Document, what: &Process) -> Result<(), PatchError> {
    let container = document.container();
    let key = |keys: &[&str]| below(container, keys);
    match what {
        Process::Becomes(uid, gid) => {
            let told =
                document.read(&key(&["user"])).and_then(Node::text).and_then(|text| text.split_once(':'));
            let group = gid.map(|gid| gid.to_string()).or_else(|| told.map(|(_, group)| group.to_owned()));
            let user = group.map_or_else(|| uid.to_string(), |group| format!("{uid}:{group}"));
            document.set(&key(&["user"]), quoted(user))
        }
        Process::Umask(mask) => document.set(&key(&["umask"]), mask.to_string()),
        Process::Drops(names) | Process::Adds(names) => {
            let (drop, add) = (key(&["capabilities", "drop"]), key(&["capabilities", "add"]));
            let dropping = matches!(what, Process::Drops(_));
            document.capabilities(names, if dropping { (&drop, &add) } else { (&add, &drop) }, dropping)
        }
        Process::Joins(gid) => document.append(&key(&["groups"]), YamlValue::from(i64::from(*gid))),
        Process::FilesystemGroup(gid) => document.set(&key(&["filesystem-group"]), i64::from(*gid)),
        Process::Mounts(at, options) if at.as_slice() == b"/" => {
            document.set(&key(&["read-only-root"]), super::read_only(options)?)
        }
        Process::Mounts(at, options) => {
            let mounts = key(&["mounts"]);
            let same = |node: &Node| {
                let told = node.get("at").and_then(Node::text);
                told.is_some_and(|told| {
                    told.trim_end_matches('/').as_bytes() == at.strip_suffix(b"/").unwrap_or(at)
                })
            };
            let listed = document.read(&mounts).ok_or(PatchError::Lost)?;
            let index = listed.items().iter().position(same).ok_or(PatchError::Lost)?;
            let mut way = mounts;
            way.extend([Part::Item(index), Part::Key("read-only".to_owned())]);
            document.set(&way, super::read_only(options)?)
        }
        Process::Only(part) => {
            let told = document.read(&key(&["mounts"])).ok_or(PatchError::Lost)?;
            let (index, rest) = above(told, "at", part).ok_or(PatchError::Lost)?;
            let mut way = key(&["mounts"]);
            way.push(Part::Item(index));
            document.set(&below(&way, &["at"]), text(part)?)?;
            let told = told.items()[index].get("sub-path").and_then(Node::text);
            let whole = told.map(|told| format!("{told}/{rest}"));
            document.set(&below(&way, &["sub-path"]), whole.unwrap_or(rest))
        }
        Process::Scratch(_) => Err(no_field("describe the new volume under `volumes:` and mount it there")),
    }
}
