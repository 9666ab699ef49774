//! Secrets and configs: files of the host, bound read-only.

use mivask_core::fact::Fact;
use mivask_core::scene::{Volume, VolumeKind, VolumeMount};

use super::project::Reading;
use super::service::pairs;
use super::types::{Grant, Resource};
use crate::diagnostic::Severity;
use crate::nearest::nearest;
use crate::yaml::Node;

impl Reading<'_> {
    /// The secrets and configs of a service.
    pub(super) fn grants(&mut self, service: &str, node: &Node) -> Vec<VolumeMount> {
        let mut mounts = Vec::new();
        for (list, word) in [("secrets", "secret"), ("configs", "config")] {
            for item in self.list(node, list) {
                mounts.extend(self.grant(service, list, word, item));
            }
        }
        mounts
    }

    fn grant(&mut self, service: &str, list: &str, word: &str, item: &Node) -> Option<VolumeMount> {
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
        let default =
            |name: &str| if list == "secrets" { format!("/run/secrets/{name}") } else { format!("/{name}") };
        let target = match grant.target {
            Some(path) if path.starts_with('/') => path,
            Some(name) => default(&name),
            None => default(&name),
        };
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
