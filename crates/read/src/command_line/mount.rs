//! `--mount`: fields between commas, as the long form of a Compose volume.

use super::made::{Made, plain, text};
use super::run::Reading;
use super::words::Word;
use crate::diagnostic::Severity;
use crate::nearest::nearest;
use crate::yaml::Node;

/// The fields that are known.
const FIELDS: [&str; 31] = [
    "type",
    "source",
    "src",
    "target",
    "destination",
    "dst",
    "readonly",
    "ro",
    "rw",
    "bind-propagation",
    "bind-nonrecursive",
    "bind-recursive",
    "consistency",
    "volume-nocopy",
    "volume-subpath",
    "subpath",
    "tmpfs-size",
    "tmpfs-mode",
    "volume-driver",
    "volume-opt",
    "volume-label",
    "U",
    "chown",
    "idmap",
    "relabel",
    "image-subpath",
    "tmpcopyup",
    "notmpcopyup",
    "noexec",
    "nosuid",
    "nodev",
];

/// The fields of one mount.
struct Fields<'w>(Vec<(&'w str, Option<&'w str>)>);

impl<'w> Fields<'w> {
    fn of(&self, names: &[&str]) -> Option<&'w str> {
        let found = self.0.iter().find(|(key, _)| names.contains(key));
        found.map(|(_, value)| value.unwrap_or("true"))
    }

    fn is(&self, names: &[&str]) -> bool {
        self.of(names).is_some_and(|value| ["true", "1"].contains(&value))
    }
}

impl Reading<'_> {
    /// One `--mount` as an element of `volumes`.
    pub(super) fn mount(&mut self, word: &Word) -> Option<Node> {
        let span = &word.span;
        let fields = self.fields(word);
        let kind = fields.of(&["type"]).unwrap_or("volume");
        let source = fields.of(&["source", "src"]);
        let target = fields.of(&["target", "destination", "dst"]);
        let read_only = fields.is(&["readonly", "ro"]);
        let (take_over, id_mapped) = (fields.is(&["U", "chown"]), fields.of(&["idmap"]).is_some());
        if let (true, Some(source), Some(target)) = (take_over || id_mapped, source, target) {
            // Of these two the short form alone can tell.
            let options = [(read_only, "ro"), (take_over, "U"), (id_mapped, "idmap")];
            let options: Vec<&str> =
                options.iter().filter(|(given, _)| *given).map(|(_, word)| *word).collect();
            let source = self.source_of(kind, source, word);
            return Some(text(&format!("{source}:{target}:{}", options.join(",")), span));
        }
        let mut made = Made::default();
        made.set("type", text(kind, span));
        if let Some(source) = source {
            made.set("source", text(&self.source_of(kind, source, word), span));
        }
        made.set("target", text(target.unwrap_or_default(), span));
        if read_only {
            made.set("read_only", plain("true", span));
        }
        match kind {
            "bind" => made.set("bind", bind(&fields, word)),
            "volume" => made.set("volume", volume(&fields, word)),
            "tmpfs" => {
                if let Some(mode) = fields.of(&["tmpfs-mode"]) {
                    made.set("tmpfs", self.tmpfs(mode, word)?);
                }
            }
            _ => {}
        }
        Some(made.node(span.clone()))
    }

    fn fields<'w>(&mut self, word: &'w Word) -> Fields<'w> {
        let split =
            |field: &'w str| field.split_once('=').map_or((field, None), |(key, value)| (key, Some(value)));
        let fields = Fields(word.text.split(',').map(split).collect());
        for (key, _) in &fields.0 {
            if !FIELDS.contains(key) {
                let help = nearest(key, FIELDS).map(|meant| format!("did you mean `{meant}`?"));
                let message = format!("`{}` is no field of a mount that is known here", key.escape_debug());
                self.say(Severity::Warning, word, &message, help);
            }
        }
        fields
    }

    fn tmpfs(&mut self, mode: &str, word: &Word) -> Option<Node> {
        let Ok(bits) = u16::from_str_radix(mode.trim_start_matches("0o"), 8) else {
            let message = format!("`{}` is no octal mode", mode.escape_debug());
            let help = "write four digits from 0 to 7, such as 1770".to_owned();
            self.say(Severity::Error, word, &message, Some(help));
            return None;
        };
        let mut tmpfs = Made::default();
        tmpfs.set("mode", plain(&bits.to_string(), &word.span));
        Some(tmpfs.node(word.span.clone()))
    }

    /// A source as Compose has it: a path that does not depend on a working directory, or a volume that is declared.
    fn source_of(&mut self, kind: &str, source: &str, word: &Word) -> String {
        match kind {
            "bind" => self.absolute(source),
            "volume" => {
                self.declare(source, word);
                source.to_owned()
            }
            _ => source.to_owned(),
        }
    }
}

/// An engine makes nothing on the host for `--mount`.
fn bind(fields: &Fields<'_>, word: &Word) -> Node {
    let span = &word.span;
    let mut bind = Made::default();
    bind.set("create_host_path", plain("false", span));
    if fields.is(&["bind-nonrecursive"]) {
        bind.set("recursive", text("disabled", span));
    } else if let Some(word) = fields.of(&["bind-recursive"]) {
        bind.set("recursive", text(word, span));
    }
    if let Some(word) = fields.of(&["relabel"]) {
        bind.set("selinux", text(if word == "private" { "Z" } else { "z" }, span));
    }
    bind.node(span.clone())
}

fn volume(fields: &Fields<'_>, word: &Word) -> Node {
    let span = &word.span;
    let mut volume = Made::default();
    if fields.is(&["volume-nocopy"]) {
        volume.set("nocopy", plain("true", span));
    }
    if let Some(path) = fields.of(&["volume-subpath", "subpath"]) {
        volume.set("subpath", text(path, span));
    }
    volume.node(span.clone())
}
