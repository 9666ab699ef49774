//! Options of an engine, in a script or as keys of a unit file: one way to write a change, whichever of them it is.

mod mounts;
mod script;
mod unit;

use std::ops::Range;

use mivask_core::change::{Process, user_text};
use mivask_core::runtime::Runtime;
use mivask_core::scene::{Container, Who};

use super::{PatchError, no_field, read_only};
pub(super) use mounts::options_with;

use crate::command_line::{KIND, unit::KIND as UNIT};
use script::Script;
use unit::UnitFile;

/// `text` with `what` about its container written into it, where it is a script or a unit file; `kind` is the workload's.
pub(super) fn written(
    text: &str,
    (kind, container): (&str, &Container),
    what: &Process,
) -> Option<Result<String, PatchError>> {
    match kind {
        KIND => Some(Script::open(text, &container.name).and_then(|mut script| {
            write(&mut script, container, what)?;
            Ok(script.edits.made(text))
        })),
        UNIT => Some(UnitFile::open(text).and_then(|mut unit| {
            unit.told_here(container, what)?;
            write(&mut unit, container, what)?;
            Ok(unit.edits.made(text))
        })),
        _ => None,
    }
}

/// The number of an option or assignment, and that of a word in it.
type At = (usize, usize);

/// A value of an option that is given.
struct Given {
    /// What it is, as far as no shell is needed to know that.
    text: String,
    /// As it stands there, without the quotes around it.
    raw: String,
    /// Where it stands.
    at: At,
}

/// A description that is options of an engine.
trait Options {
    /// Which engine takes them.
    fn engine(&self) -> Runtime;

    /// The values of an option, the last one last.
    fn values(&self, option: &str) -> Vec<Given>;

    /// Gives an option this value alone.
    ///
    /// # Errors
    /// It is given where it is not edited.
    fn set(&mut self, option: &str, value: &str) -> Result<(), PatchError>;

    /// Gives an option one value more.
    ///
    /// # Errors
    /// It is given where it is not edited.
    fn add(&mut self, option: &str, value: &str) -> Result<(), PatchError>;

    /// Turns a switch.
    ///
    /// # Errors
    /// It is given where it is not edited.
    fn switch(&mut self, option: &str, on: bool) -> Result<(), PatchError>;

    /// Puts another text in the place of a value.
    ///
    /// # Errors
    /// It stands there in a way that is not edited.
    fn replace(&mut self, at: At, raw: &str) -> Result<(), PatchError>;

    /// Takes values away, and their options.
    fn remove(&mut self, at: &[At]);
}

fn write(options: &mut dyn Options, container: &Container, what: &Process) -> Result<(), PatchError> {
    match what {
        Process::Becomes(uid, gid) => {
            let given = match &container.who {
                Who::Plain(plain) => plain.user.as_ref().map(|user| user.value.as_str()),
                Who::Kubernetes(_) | Who::Process(_) | Who::Running(_) => None,
            };
            options.set("user", &user_text(given, *uid, *gid))
        }
        Process::Umask(mask) if options.engine() == Runtime::Podman => {
            options.set("umask", &format!("{:04o}", mask.bits()))
        }
        Process::Umask(_) => Err(no_field(
            "Docker has no option for the umask: set it where the program starts, or in the image",
        )),
        Process::UserNamespace(_) if !options.values("pod").is_empty() => {
            Err(no_field("its pod has the user namespace: give it to `podman pod create --userns`"))
        }
        Process::UserNamespace(mode) => {
            for option in ["uidmap", "gidmap", "subuidname", "subgidname"] {
                if !options.values(option).is_empty() {
                    return Err(no_field(&format!(
                        "`--{option}` gives it a map, and excludes `--userns`: put `--userns={mode}` in its place by hand"
                    )));
                }
            }
            options.set("userns", mode)
        }
        Process::Drops(names) => capabilities(options, names, ("cap-drop", "cap-add")),
        Process::Adds(names) => capabilities(options, names, ("cap-add", "cap-drop")),
        Process::Joins(_) if options.values("group-add").iter().any(|one| one.text == "keep-groups") => {
            Err(no_field("`--group-add keep-groups` stands alone: Podman takes no other group beside it"))
        }
        Process::Joins(gid) => options.add("group-add", &gid.to_string()),
        Process::FilesystemGroup(_) => Err(no_field("an engine's container has no filesystem group")),
        Process::Level(level) => {
            let text = format!("label=level:{level}");
            let given = options.values("security-opt");
            match given.iter().find(|one| level_of(&one.text).is_some()) {
                Some(one) => options.replace(one.at, &text),
                None => options.add("security-opt", &text),
            }
        }
        Process::StartsAgain | Process::IsMadeAgain => Err(no_field("it is not part of a description")),
        Process::Mounts(at, asked) if at.as_slice() == b"/" => options.switch("read-only", read_only(asked)?),
        Process::Mounts(at, asked) => mounts::remount(options, at, asked),
        Process::Only(part) => mounts::only(options, part),
        Process::Scratch(at) => options.add("tmpfs", mounts::plain(at)?),
    }
}

/// The level that a value of `--security-opt` gives.
pub(super) fn level_of(text: &str) -> Option<&str> {
    let rest = text.strip_prefix("label")?.strip_prefix([':', '='])?;
    rest.strip_prefix("level:")
}

/// A capability is added or dropped, not both; dropping `ALL` leaves nothing to add.
fn capabilities(
    options: &mut dyn Options,
    names: &[String],
    (to, other): (&str, &str),
) -> Result<(), PatchError> {
    let everything = to == "cap-drop" && names.iter().any(|name| bare(name) == "ALL");
    let meant = |given: &Given| everything || names.iter().any(|name| bare(name) == bare(&given.text));
    let gone: Vec<At> = options.values(other).iter().filter(|one| meant(one)).map(|one| one.at).collect();
    options.remove(&gone);
    names.iter().try_for_each(|name| options.add(to, name))
}

/// The name of a capability without `CAP_`, in capitals.
fn bare(name: &str) -> String {
    let name = name.to_ascii_uppercase();
    name.strip_prefix("CAP_").map(ToOwned::to_owned).unwrap_or(name)
}

/// What is to stand where.
#[derive(Default)]
struct Edits(Vec<(Range<usize>, String)>);

impl Edits {
    fn put(&mut self, at: Range<usize>, text: String) {
        self.0.push((at, text));
    }

    /// `text` with all of them, which do not overlap.
    fn made(mut self, text: &str) -> String {
        self.0.sort_by_key(|(at, _)| (at.start, at.end));
        let mut made = String::with_capacity(text.len());
        let mut done = 0;
        for (at, new) in self.0 {
            made.push_str(text.get(done..at.start).unwrap_or_default());
            made.push_str(&new);
            done = done.max(at.end);
        }
        made.push_str(text.get(done..).unwrap_or_default());
        made
    }
}
