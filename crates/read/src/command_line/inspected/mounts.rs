//! What a container that is there mounts, and whose ids it has.

use mivask_core::unmodelled::Unmodelled;

use super::super::made::{Made, plain, text};
use super::super::run::{Reading, Run};
use crate::diagnostic::Severity;
use crate::yaml::Node;

impl Reading<'_> {
    /// What is mounted, with the real sources; the volumes exist already.
    pub(super) fn mounts(&mut self, node: &Node, run: &mut Run) {
        let wanted = node.find("HostConfig.Mounts").map(Node::items).unwrap_or_default();
        for mount in node.get("Mounts").map(Node::items).unwrap_or_default() {
            let said = |key: &str| mount.get(key).and_then(Node::text).unwrap_or_default();
            let (kind, target) = (said("Type"), said("Destination"));
            let asked = wanted.iter().find(|one| one.get("Target").and_then(Node::text) == Some(target));
            run.service.add("volumes", self.element(mount, (kind, target), asked));
        }
    }

    fn element(&mut self, mount: &Node, (kind, target): (&str, &str), asked: Option<&Node>) -> Node {
        let span = &mount.span;
        let said = |key: &str| mount.get(key).and_then(Node::text).unwrap_or_default();
        let read_only = said("RW") == "false";
        let other;
        let source = match kind {
            "bind" => said("Source"),
            "volume" if !said("Name").is_empty() => {
                self.exists(said("Name"), mount);
                said("Name")
            }
            "tmpfs" => "",
            _ => {
                let name = format!("{kind} at {target}");
                let message = format!(
                    "a mount of type `{}` is not modelled: what is at {} is not known",
                    kind.escape_debug(),
                    target.escape_debug()
                );
                self.diagnostics.add(Severity::Warning, self.source, span, message, None);
                self.exists(&name, mount);
                other = name;
                &other
            }
        };
        let kind = if kind == "bind" || kind == "tmpfs" { kind } else { "volume" };
        let options: Vec<&str> =
            mount.get("Options").map(Node::items).unwrap_or_default().iter().filter_map(Node::text).collect();
        let short: Vec<&str> = options
            .into_iter()
            .filter(|option| ["U", "idmap", "noexec", "nosuid", "nodev"].contains(option))
            .collect();
        if !short.is_empty() && !source.contains(':') && !target.contains(':') {
            let ro = if read_only { ",ro" } else { "" };
            let ro = if kind == "volume" { format!("{ro},nocopy") } else { ro.to_owned() };
            return text(&format!("{source}:{target}:{}{ro}", short.join(",")), span);
        }
        let mut made = Made::default();
        made.set("type", text(kind, span));
        if !source.is_empty() {
            made.set("source", text(source, span));
        }
        made.set("target", text(target, span));
        if read_only {
            made.set("read_only", plain("true", span));
        }
        further(&mut made, kind, asked, span);
        made.node(span.clone())
    }

    /// A volume that is there: nothing is copied into it any more.
    fn exists(&mut self, name: &str, at: &Node) {
        if !self.volumes.has(name) {
            let mut volume = Made::default();
            volume.set("external", plain("true", &at.span));
            volume.set("name", text(name, &at.span));
            self.volumes.set(name, volume.node(at.span.clone()));
        }
    }

    /// The engines do not say whose ids the container's are where they run without root or remap everybody; where they keep
    /// things tells it.
    pub(super) fn ids(&mut self, node: &Node, run: &mut Run) {
        let kept = ["StaticDir", "HostnamePath", "LogPath", "ResolvConfPath", "ConmonPidFile"];
        let Some(path) = kept
            .iter()
            .find_map(|key| node.get(key).filter(|node| node.text().is_some_and(|text| !text.is_empty())))
        else {
            return;
        };
        let text = path.text().unwrap_or_default();
        let remapped = text.split('/').any(|part| {
            let ids = part.split_once('.');
            ids.is_some_and(|(uid, gid)| {
                [uid, gid].iter().all(|id| !id.is_empty() && id.bytes().all(|byte| byte.is_ascii_digit()))
            })
        });
        let rootless =
            text.contains("/.local/share/") || text.starts_with("/run/user/") || text.starts_with("/home/");
        if rootless && !remapped {
            run.of_user = Some(self.source.place(&path.span, "HostnamePath"));
        }
        if !remapped || run.user_namespace.is_some() {
            return;
        }
        let what = "an engine that remaps its users (`userns-remap`)";
        let settle = "give the maps under `host: { user-namespace: ... }` in a scene file";
        let message = format!("this is a container of {what}: answers depend on the ids it gives");
        self.diagnostics.add(Severity::Warning, self.source, &path.span, message, Some(settle.to_owned()));
        let from = self.source.place(&path.span, "HostnamePath");
        run.unmodelled.push(Unmodelled::ids(what, settle, from));
    }
}

/// What only the request for a mount says: the mode of a tmpfs, the part of a volume, what becomes of mounts below a bind. One
/// that is in no list of requests was asked for in the short form, and an engine makes the source of such a bind.
fn further(made: &mut Made, kind: &str, asked: Option<&Node>, span: &std::ops::Range<usize>) {
    if kind == "bind" {
        let option = |key: &str| {
            asked.and_then(|one| one.get("BindOptions")?.get(key)).and_then(Node::text) == Some("true")
        };
        let words = [
            ("NonRecursive", "disabled"),
            ("ReadOnlyNonRecursive", "writable"),
            ("ReadOnlyForceRecursive", "readonly"),
        ];
        let mut bind = Made::default();
        bind.set("create_host_path", plain(if asked.is_none() { "true" } else { "false" }, span));
        if let Some((_, word)) = words.iter().find(|(key, _)| option(key)) {
            bind.set("recursive", text(word, span));
        }
        made.set("bind", bind.node(span.clone()));
    }
    let asked =
        |path: &str| asked.and_then(|one| one.find(path)).and_then(Node::text).filter(|text| *text != "0");
    if let Some(mode) = asked("TmpfsOptions.Mode") {
        let mut tmpfs = Made::default();
        tmpfs.set("mode", plain(mode, span));
        made.set("tmpfs", tmpfs.node(span.clone()));
    }
    if kind == "volume" {
        // What the image has there is in it since the container was made.
        let mut volume = Made::default();
        volume.set("nocopy", plain("true", span));
        if let Some(path) = asked("VolumeOptions.Subpath").filter(|path| !path.is_empty()) {
            volume.set("subpath", text(path, span));
        }
        made.set("volume", volume.node(span.clone()));
    }
}
