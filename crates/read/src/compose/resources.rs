//! Secrets and configs: files of the host, bound read-only, or texts that are copied into the container.

use mivask_core::fact::Fact;
use mivask_core::mode::Mode;
use mivask_core::scene::{GivenFile, Volume, VolumeKind, VolumeMount};

use super::project::Reading;
use super::service::pairs;
use super::types::{Grant, Resource};
use crate::diagnostic::Severity;
use crate::nearest::nearest;
use crate::yaml::{Node, Scalar, Value, resolve};

impl Reading<'_> {
    /// The secrets and configs of a service.
    pub(super) fn grants(&mut self, service: &str, node: &Node) -> Vec<VolumeMount> {
        let mut mounts = Vec::new();
        for (list, word) in [("secrets", "secret"), ("configs", "config")] {
            for item in self.list(node, list) {
                mounts.extend(self.grant((service, node), (list, word), item));
            }
        }
        mounts
    }

    /// One that is no file of the host: Compose copies it into the container, 0:0 0444 unless it says otherwise.
    fn given(
        &mut self,
        (uid, gid, mode): (Option<&str>, Option<&str>, Option<&Node>),
        target: String,
        (list, word): (&str, &str),
        item: &Node,
    ) {
        let mut number = |text: Option<&str>, key: &str| match text.map(str::parse) {
            None => 0,
            Some(Ok(number)) => number,
            Some(Err(_)) => {
                let at = item.get(key).unwrap_or(item);
                let message = format!("`{key}` of a {word} is a number");
                self.diagnostics.add(Severity::Error, self.source, &at.span, message, None);
                0
            }
        };
        let (uid, gid) = (number(uid, "uid"), number(gid, "gid"));
        let mode = mode.and_then(|node| self.file_mode(node)).unwrap_or(Mode::new(0o444));
        let at = Fact::new(target.into_bytes(), self.place(item, list));
        self.given_files.push(GivenFile { at, uid, gid, mode });
    }

    /// What is said of a file that it has already.
    fn ignored_of_a_file(&mut self, given: &Resource, word: &str, item: &Node) {
        for key in ["uid", "gid", "mode"] {
            if let Some(at) = item.get(key)
                && given.file.is_some()
            {
                let message = format!(
                    "`{key}` is ignored for a {word} from a file: it is bound with the owner and mode it has"
                );
                let help = given.file.as_ref().map(|file| format!("change {file} itself"));
                self.diagnostic(Severity::Warning, at, &message, help);
            }
        }
    }

    /// A mode: octal as a text or behind a zero, decimal otherwise (compose-go, `FileMode`).
    fn file_mode(&mut self, node: &Node) -> Option<Mode> {
        let text = node.text()?;
        let plain = matches!(node.value, Value::Scalar { plain: true, .. });
        let bits = match (plain, resolve(text)) {
            (true, Scalar::Int(number)) if !text.starts_with('0') => u16::try_from(number).ok(),
            _ => u16::from_str_radix(text.trim_start_matches("0o"), 8).ok(),
        };
        let mode = bits.filter(|bits| *bits <= 0o7777).map(Mode::new);
        if mode.is_none() {
            let help = Some("write four octal digits, such as 0440".to_owned());
            self.diagnostic(Severity::Error, node, "`mode` is a file mode", help);
        }
        mode
    }

    fn grant(
        &mut self,
        (service, service_node): (&str, &Node),
        (list, word): (&str, &str),
        item: &Node,
    ) -> Option<VolumeMount> {
        let grant = match item.text() {
            Some(name) => Grant { source: Some(name.to_owned()), ..Grant::default() },
            None => self.typed(item)?,
        };
        let name = grant.source.clone().unwrap_or_default();
        let root = self.root;
        let Some(declared) = root.get(list).and_then(|all| all.get(&name)) else {
            let known: Vec<&str> = root
                .get(list)
                .map(pairs)
                .unwrap_or_default()
                .iter()
                .filter_map(|(key, _)| key.text())
                .collect();
            let help = match nearest(&name, known.iter().copied()) {
                Some(meant) => format!("did you mean `{meant}`?"),
                None => format!("declare it under the top-level `{list}:`"),
            };
            let message = format!("{word} `{}` is not declared", name.escape_debug());
            self.diagnostic(Severity::Error, item, &message, Some(help));
            return None;
        };
        let given: Resource = self.typed(declared).unwrap_or_default();
        self.ignored_of_a_file(&given, word, item);
        let default =
            |name: &str| if list == "secrets" { format!("/run/secrets/{name}") } else { format!("/{name}") };
        let target = match grant.target {
            Some(path) if path.starts_with('/') => path,
            Some(name) => default(&name),
            None => default(&name),
        };
        if given.file.is_none() && (given.environment.is_some() || given.content.is_some()) {
            if node_is_read_only(service_node) {
                let message = format!(
                    "Compose cannot put the {word} `{}` into a service that is `read_only`",
                    name.escape_debug()
                );
                let help = Some("give it as a `file:`".to_owned());
                self.diagnostic(Severity::Error, item, &message, help);
                return None;
            }
            let ids =
                (grant.uid.as_ref().map(|id| id.0.as_str()), grant.gid.as_ref().map(|id| id.0.as_str()));
            self.given((ids.0, ids.1, item.get("mode")), target, (list, word), item);
            return None;
        }
        let kind = match given.file {
            Some(path) => VolumeKind::Bind { path: path.into_bytes(), make_missing: false },
            None => VolumeKind::Other { kind: word.to_owned(), read_only: true },
        };
        let volume = Fact::new(format!("{service}:{target}"), self.place(item, list));
        self.volumes.push(Volume { name: volume.clone(), kind });
        let at = Fact::new(target.into_bytes(), self.place(item, list));
        Some(VolumeMount { read_only: true, ..VolumeMount::new(volume, at) })
    }
}

fn node_is_read_only(service: &Node) -> bool {
    service.get("read_only").and_then(Node::text).is_some_and(|text| resolve(text) == Scalar::Bool(true))
}
