//! Keys of our own scene file.

use mivask_core::change::{GroupStep, Process, user_text, with_level};
use yaml_edit::YamlValue;

use super::document::{Document, below, quoted};
use super::{PatchError, no_field};
use crate::yaml::Node;

/// Writes `what` about the container.
pub(super) fn write(document: &Document, what: &Process) -> Result<(), PatchError> {
    let container = document.container();
    let key = |keys: &[&str]| below(container, keys);
    match what {
        Process::Becomes(uid, gid) => {
            let given = document.read(&key(&["user"])).and_then(Node::text);
            document.set(&key(&["user"]), quoted(user_text(given, *uid, *gid)))
        }
        Process::Umask(mask) => document.set(&key(&["umask"]), mask.to_string()),
        Process::UserNamespace(_) => {
            Err(no_field("a container of a scene names its maps: `user-namespace: { uids: ..., gids: ... }`"))
        }
        Process::Level(level) => {
            let given = document.read(&key(&["label"])).and_then(Node::text);
            let given =
                given.ok_or_else(|| no_field("a container of a scene names its whole label: `label:`"))?;
            document.set(&key(&["label"]), quoted(with_level(given, level)))
        }
        Process::StartsAgain | Process::IsMadeAgain => Err(no_field("it is not part of a description")),
        Process::Drops(names) | Process::Adds(names) => {
            let drop = key(&["capabilities", "drop"]);
            let add = key(&["capabilities", "add"]);
            let dropping = matches!(what, Process::Drops(_));
            document.capabilities(names, if dropping { (&drop, &add) } else { (&add, &drop) }, dropping)
        }
        Process::Joins(gid) => document.append(&key(&["groups"]), YamlValue::from(i64::from(*gid))),
        Process::FilesystemGroup(step) => match step {
            GroupStep::Group(gid) => document.set(&key(&["filesystem-group"]), i64::from(*gid)),
            GroupStep::Off => document.remove(&key(&["filesystem-group"])),
            GroupStep::Always | GroupStep::OnRootMismatch => {
                Err(no_field("a container of a scene has no policy for its filesystem group"))
            }
        },
        Process::Mounts(at, options) if at.as_slice() == b"/" => {
            document.set(&key(&["read-only-root"]), super::read_only(options)?)
        }
        Process::Mounts(at, options) => {
            let way = document.mount_at(&key(&["mounts"]), "at", at).ok_or(PatchError::Lost)?;
            document.set(&below(&way, &["read-only"]), super::read_only(options)?)
        }
        Process::Only(part) => document.part_alone(&key(&["mounts"]), ("at", "sub-path"), part),
        Process::Scratch(_) => Err(no_field("describe the new volume under `volumes:` and mount it there")),
    }
}
