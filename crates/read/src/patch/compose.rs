//! Keys of the Compose specification.

use mivask_core::change::{Process, user_text};
use mivask_core::scene::{Container, Who};
use yaml_edit::YamlValue;

use super::document::{Document, Part, below, item, quoted, rest_below, text};
use super::engine::{level_of, options_with};
use super::{PatchError, no_field, read_only};
use crate::yaml::{Node, Value};

/// Options of Podman that only the short form of a volume has.
const OF_SHORT_FORM: [&str; 2] = ["U", "idmap"];

/// Writes `what` about the service.
pub(super) fn write(document: &Document, container: &Container, what: &Process) -> Result<(), PatchError> {
    let service = document.container();
    if let Some(other) = extended_by(document) {
        return Err(PatchError::NoField(format!(
            "service {other} extends this one and would change with it: change both by hand, or give {other} keys of its own first"
        )));
    }
    let key = |key: &str| below(service, &[key]);
    match what {
        Process::Becomes(uid, gid) => {
            // As it was understood: the group may come from another service, or from a variable.
            let given = match &container.who {
                Who::Plain(plain) => plain.user.as_ref().map(|user| user.value.as_str()),
                Who::Kubernetes(_) | Who::Process(_) | Who::Running(_) => None,
            };
            document.set(&key("user"), quoted(user_text(given, *uid, *gid)))
        }
        Process::Umask(_) => Err(no_field(
            "no key of a service sets a umask: set it where the program starts, or in the image",
        )),
        Process::UserNamespace(mode) => document.set(&key("userns_mode"), mode.as_str()),
        Process::Level(level) => {
            let options = key("security_opt");
            let listed = document.read(&options).map(Node::items).unwrap_or_default();
            let is_level = |one: &Node| one.text().is_some_and(|text| level_of(text).is_some());
            let text = format!("label=level:{level}");
            match listed.iter().position(is_level) {
                Some(at) => document.set(&item(&options, at), quoted(text)),
                None => document.append(&options, quoted(text)),
            }
        }
        Process::StartsAgain | Process::IsMadeAgain => Err(no_field("it is not part of a description")),
        Process::Drops(names) | Process::Adds(names) => {
            let drop = key("cap_drop");
            let add = key("cap_add");
            let dropping = matches!(what, Process::Drops(_));
            document.capabilities(names, if dropping { (&drop, &add) } else { (&add, &drop) }, dropping)
        }
        Process::Joins(gid) => document.append(&key("group_add"), YamlValue::from(gid.to_string().as_str())),
        Process::FilesystemGroup(_) => Err(no_field("a service has no filesystem group")),
        Process::Mounts(at, options) if at.as_slice() == b"/" => {
            document.set(&key("read_only"), read_only(options)?)
        }
        Process::Mounts(at, options) => remount(document, at, options),
        Process::Only(part) => only(document, part),
        Process::Scratch(at) => document.append(&key("tmpfs"), text(at)?.into()),
    }
}

/// The entry of `volumes` above `part` shows that part alone: of a bind its source is another folder, of a volume it is the
/// `subpath` of the long form.
fn only(document: &Document, part: &[u8]) -> Result<(), PatchError> {
    let volumes = below(document.container(), &["volumes"]);
    let listed = document.read(&volumes).map(Node::items).unwrap_or_default();
    let short = |entry: &Node| -> Vec<String> {
        entry.text().unwrap_or_default().split(':').map(ToOwned::to_owned).collect()
    };
    let above = listed.iter().enumerate().filter_map(|(index, entry)| {
        let long = entry.get("target").and_then(Node::text).map(ToOwned::to_owned);
        let target = long.or_else(|| short(entry).get(1).cloned())?;
        Some((target.len(), index, rest_below(&target, part)?))
    });
    let Some((_, index, rest)) = above.max_by_key(|(length, ..)| *length) else {
        return Err(no_field("no entry of the service's own `volumes` is mounted above that path"));
    };
    let entry = &listed[index];
    let way = item(&volumes, index);
    if entry.get("target").is_none() {
        let mut parts = short(entry);
        if !parts[0].starts_with(['.', '/', '~']) {
            return Err(no_field(
                "a short entry of `volumes` has no sub-path: write it in the long form, with `volume: { subpath: ... }`",
            ));
        }
        parts[0] = format!("{}/{rest}", parts[0].trim_end_matches('/'));
        text(part)?.clone_into(&mut parts[1]);
        return document.set(&way, parts.join(":"));
    }
    document.set(&below(&way, &["target"]), text(part)?)?;
    let bind = entry.get("type").and_then(Node::text) == Some("bind");
    let source: &[&str] = if bind { &["source"] } else { &["volume", "subpath"] };
    document.deepen(&below(&way, source), rest)
}

/// Another service of the file that takes its keys from this one.
fn extended_by(document: &Document) -> Option<String> {
    let (Part::Key(name), above) = document.container().split_last()? else { return None };
    let Value::Mapping(services) = &document.read(above)?.value else { return None };
    let base = |service: &Node| {
        let extends = service.get("extends")?;
        let base = extends.text().or_else(|| extends.get("service").and_then(Node::text))?;
        Some(base.to_owned())
    };
    let other = services.iter().find(|(_, service)| base(service).as_ref() == Some(name))?;
    other.0.text().map(ToOwned::to_owned)
}

/// The entry of `volumes` that is mounted at `at`, short or long, with these options.
fn remount(document: &Document, at: &[u8], asked: &[String]) -> Result<(), PatchError> {
    let label = asked.iter().find(|option| *option == "z" || *option == "Z").filter(|_| asked.len() == 1);
    let of_podman = asked.iter().any(|option| OF_SHORT_FORM.contains(&option.as_str()));
    let read_only = if of_podman || label.is_some() { None } else { Some(read_only(asked)?) };
    let at = text(at)?.trim_end_matches('/');
    let volumes = below(document.container(), &["volumes"]);
    let listed = document.read(&volumes).map(Node::items).unwrap_or_default();
    for (index, entry) in listed.iter().enumerate() {
        let way = item(&volumes, index);
        let long = entry.get("target").and_then(Node::text);
        if long.is_some_and(|target| target.trim_end_matches('/') == at) {
            if let Some(label) = label.filter(|_| entry.get("type").and_then(Node::text) == Some("bind")) {
                return document.set(&below(&way, &["bind", "selinux"]), label.as_str());
            }
            let Some(read_only) = read_only else {
                return Err(no_field(&format!(
                    "the long form of a volume has no `{}`: write the entry in the short form, SOURCE:TARGET:OPTIONS",
                    asked.join(",")
                )));
            };
            return document.set(&below(&way, &["read_only"]), read_only);
        }
        let mut parts = entry.text().unwrap_or_default().splitn(3, ':');
        if let (Some(source), Some(target)) = (parts.next(), parts.next())
            && target.trim_end_matches('/') == at
        {
            let options = options_with(parts.next().unwrap_or_default(), asked);
            return document.set(&way, format!("{source}:{target}{options}"));
        }
    }
    Err(no_field(
        "no entry of the service's own `volumes` has options for that mount: write it there in the long form first",
    ))
}
