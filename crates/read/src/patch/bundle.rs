//! Fields of the OCI runtime specification's `config.json`.
//!
//! The file is written by tools, so it is read and written again in the form it has: indented by as much as it is, or on one line. One
//! that would not come out as it is without a change is left to its owner.

use mivask_core::change::{Process, below, with_level};
use mivask_core::path::trimmed;
use serde::ser::{Error as _, SerializeMap, SerializeSeq};
use serde::{Serialize, Serializer};
use serde_json::ser::PrettyFormatter;

use super::{PatchError, no_field};
use crate::diagnostic::Diagnostics;
use crate::text::SourceText;
use crate::yaml::{Node, Value, parse};

/// `text` with `what` about the process written into it.
pub(super) fn written(text: &str, what: &Process) -> Result<String, PatchError> {
    let mut diagnostics = Diagnostics::default();
    let mut nodes = parse(&SourceText::new("", text), &mut diagnostics);
    let mut root = nodes.pop().filter(|_| nodes.is_empty()).ok_or(PatchError::Lost)?;
    let form = Form::of(text);
    if form.print(&root)? != text {
        return Err(PatchError::Layout);
    }
    write(&mut root, what)?;
    form.print(&root)
}

fn write(root: &mut Node, what: &Process) -> Result<(), PatchError> {
    match what {
        Process::Becomes(uid, gid) => {
            set(root, &["process", "user", "uid"], number(*uid))?;
            gid.map_or(Ok(()), |gid| set(root, &["process", "user", "gid"], number(gid)))
        }
        Process::Umask(mask) => set(root, &["process", "user", "umask"], number(u32::from(mask.bits()))),
        Process::Joins(gid) => {
            let groups = list(root, &["process", "user", "additionalGids"])?;
            groups.push(number(*gid));
            Ok(())
        }
        Process::Drops(names) | Process::Adds(names) => {
            capabilities(root, names, matches!(what, Process::Adds(_)))
        }
        Process::FilesystemGroup(_) => {
            Err(no_field("a bundle has no filesystem group: its volumes are as they are"))
        }
        Process::UserNamespace(_) => {
            Err(no_field("a bundle names its maps: `linux.uidMappings` and `linux.gidMappings`"))
        }
        Process::Level(level) => {
            let mut found = false;
            for way in [["process", "selinuxLabel"], ["linux", "mountLabel"]] {
                let given = root.get(way[0]).and_then(|part| part.get(way[1])).and_then(Node::text);
                if let Some(label) = given.map(|given| with_level(given, level)) {
                    set(root, &way, quoted(&label))?;
                    found = true;
                }
            }
            found
                .then_some(())
                .ok_or_else(|| no_field("a bundle names its whole label: `process.selinuxLabel`"))
        }
        Process::StartsAgain | Process::IsMadeAgain => Err(no_field("it is not part of a description")),
        Process::Mounts(at, options) if at.as_slice() == b"/" => {
            set(root, &["root", "readonly"], plain(if super::read_only(options)? { "true" } else { "false" }))
        }
        Process::Mounts(at, options) => remount(mount_at(root, at)?, options),
        Process::Only(part) => only(root, part),
        Process::Scratch(at) => {
            let at = std::str::from_utf8(at).map_err(|_| PatchError::Lost)?;
            let mount = vec![
                (quoted("destination"), quoted(at)),
                (quoted("type"), quoted("tmpfs")),
                (quoted("source"), quoted("tmpfs")),
            ];
            list(root, &["mounts"])?.push(Node::new(Value::Mapping(mount), 0..0));
            Ok(())
        }
    }
}

/// Every set has the capability, or none of them.
fn capabilities(root: &mut Node, names: &[String], add: bool) -> Result<(), PatchError> {
    if names.iter().any(|name| name.eq_ignore_ascii_case("all")) && add {
        return Err(no_field("a bundle lists capabilities one by one: name those that are needed"));
    }
    let full = |name: &str| {
        let bare = name.to_ascii_uppercase();
        if bare.starts_with("CAP_") { bare } else { format!("CAP_{bare}") }
    };
    for set in ["bounding", "effective", "permitted", "inheritable", "ambient"] {
        let held = list(root, &["process", "capabilities", set])?;
        if names.iter().any(|name| name.eq_ignore_ascii_case("all")) {
            held.clear();
        }
        for name in names.iter().map(|name| full(name)) {
            held.retain(|given| !given.text().is_some_and(|text| text.eq_ignore_ascii_case(&name)));
            if add {
                held.push(quoted(&name));
            }
        }
    }
    Ok(())
}

/// The last mount at `at`, which is the one that is seen.
fn mount_at<'n>(root: &'n mut Node, at: &[u8]) -> Result<&'n mut Node, PatchError> {
    let same = |mount: &&mut Node| {
        mount
            .get("destination")
            .and_then(Node::text)
            .is_some_and(|text| trimmed(text.as_bytes()) == trimmed(at))
    };
    list(root, &["mounts"])?.iter_mut().rev().find(same).ok_or(PatchError::Lost)
}

/// Options of one mount, each in the place of its opposite.
fn remount(mount: &mut Node, options: &[String]) -> Result<(), PatchError> {
    let words = list(mount, &["options"])?;
    for option in options {
        let opposites: &[&str] = match option.as_str() {
            "rw" => &["ro", "rro"],
            "ro" => &["rw", "rrw"],
            "exec" => &["noexec", "rnoexec"],
            "suid" => &["nosuid", "rnosuid"],
            "dev" => &["nodev", "rnodev"],
            "noexec" => &["exec", "rexec"],
            "nosuid" => &["suid", "rsuid"],
            "nodev" => &["dev", "rdev"],
            _ => {
                return Err(no_field(&format!(
                    "a mount of a bundle takes no `{option}` here: write it into its options"
                )));
            }
        };
        words.retain(|word| !word.text().is_some_and(|text| text == option || opposites.contains(&text)));
        words.push(quoted(option));
    }
    Ok(())
}

/// Of a bind mount, the part alone.
fn only(root: &mut Node, part: &[u8]) -> Result<(), PatchError> {
    let mounts = list(root, &["mounts"])?;
    let rest = |mount: &Node| {
        let at = mount.get("destination")?.text()?;
        let rest = below(at.as_bytes(), part)?;
        Some((at.len(), String::from_utf8(rest.to_vec()).ok()?))
    };
    let above = mounts.iter_mut().filter_map(|mount| Some((rest(mount)?, mount)));
    let ((_, rest), mount) = above.max_by_key(|((length, _), _)| *length).ok_or(PatchError::Lost)?;
    let source = mount.get("source").and_then(Node::text).ok_or(PatchError::Lost)?;
    let source = format!("{}/{rest}", source.trim_end_matches('/'));
    set(mount, &["source"], quoted(&source))?;
    let part = std::str::from_utf8(part).map_err(|_| PatchError::Lost)?;
    set(mount, &["destination"], quoted(part))
}

/// Sets the value at `path`; mappings on the way are made where there are none.
fn set(node: &mut Node, path: &[&str], value: Node) -> Result<(), PatchError> {
    *slot(node, path, || plain("null"))? = value;
    Ok(())
}

/// The list at `path`, an empty one where there was none.
fn list<'n>(node: &'n mut Node, path: &[&str]) -> Result<&'n mut Vec<Node>, PatchError> {
    let slot = slot(node, path, || Node::new(Value::Sequence(Vec::new()), 0..0))?;
    if slot.is_nothing() {
        slot.value = Value::Sequence(Vec::new());
    }
    match &mut slot.value {
        Value::Sequence(items) => Ok(items),
        Value::Scalar { .. } | Value::Mapping(_) => Err(PatchError::Lost),
    }
}

fn slot<'n>(node: &'n mut Node, path: &[&str], new: impl Fn() -> Node) -> Result<&'n mut Node, PatchError> {
    let Some((key, rest)) = path.split_first() else { return Ok(node) };
    if node.is_nothing() {
        node.value = Value::Mapping(Vec::new());
    }
    let Value::Mapping(pairs) = &mut node.value else { return Err(PatchError::Lost) };
    let at = match pairs.iter().position(|(known, _)| known.text() == Some(key)) {
        Some(at) => at,
        None => {
            let made = if rest.is_empty() { new() } else { Node::new(Value::Mapping(Vec::new()), 0..0) };
            pairs.push((quoted(key), made));
            pairs.len() - 1
        }
    };
    slot(&mut pairs[at].1, rest, new)
}

fn quoted(text: &str) -> Node {
    Node::new(Value::Scalar { text: text.to_owned(), plain: false }, 0..0)
}

fn plain(text: &str) -> Node {
    Node::new(Value::Scalar { text: text.to_owned(), plain: true }, 0..0)
}

fn number(value: u32) -> Node {
    plain(&value.to_string())
}

/// How a JSON text is laid out.
struct Form {
    /// What one level is indented by; `None` of one that is on one line.
    indent: Option<String>,
    /// What follows its last brace.
    end: String,
}

impl Form {
    fn of(text: &str) -> Self {
        let second = text.lines().nth(1);
        let indent = second.map(|line| line[..line.len() - line.trim_start().len()].to_owned());
        Self { indent, end: text[text.trim_end().len()..].to_owned() }
    }

    fn print(&self, node: &Node) -> Result<String, PatchError> {
        let mut out = Vec::new();
        let node = Json(node);
        let done = match &self.indent {
            Some(indent) => {
                let form = PrettyFormatter::with_indent(indent.as_bytes());
                node.serialize(&mut serde_json::Serializer::with_formatter(&mut out, form))
            }
            None => node.serialize(&mut serde_json::Serializer::new(&mut out)),
        };
        done.map_err(|_| PatchError::Layout)?;
        let text = String::from_utf8(out).map_err(|_| PatchError::Layout)?;
        Ok(text + &self.end)
    }
}

/// A node as JSON.
struct Json<'a>(&'a Node);

impl Serialize for Json<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match &self.0.value {
            Value::Scalar { text, plain: false } => serializer.serialize_str(text),
            Value::Scalar { text, plain: true } => {
                let value: serde_json::Value = serde_json::from_str(text).map_err(S::Error::custom)?;
                value.serialize(serializer)
            }
            Value::Sequence(items) => {
                let mut list = serializer.serialize_seq(Some(items.len()))?;
                items.iter().try_for_each(|item| list.serialize_element(&Json(item)))?;
                list.end()
            }
            Value::Mapping(pairs) => {
                let mut map = serializer.serialize_map(Some(pairs.len()))?;
                for (key, value) in pairs {
                    map.serialize_entry(key.text().unwrap_or_default(), &Json(value))?;
                }
                map.end()
            }
        }
    }
}
