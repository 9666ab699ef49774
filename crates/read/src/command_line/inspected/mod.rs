//! Containers as engines print them: the answer of `inspect`, a list of objects with `Config`, `HostConfig` and `Mounts`.
//!
//! What an engine says of a container is what it was made with, after its own defaults. Each is read as the command line that makes
//! the same, with two differences: its volumes exist already, and what Podman says of capabilities is all there is.

mod mounts;
mod shape;

use std::collections::BTreeMap;
use std::path::Path;

use mivask_core::caps::Capability;
use mivask_core::runtime::Runtime;

use super::Runs;
use super::run::Reading;
use super::words::Word;
use crate::diagnostic::{Diagnostics, Severity};
use crate::text::SourceText;
use crate::yaml::{Node, Value};
use shape::is_shaped;

/// What workloads of such documents are.
pub(crate) const KIND: &str = "printed container";

/// Whether a document is what an engine says of containers: one, or a list.
pub(crate) fn is_one(document: &Node) -> bool {
    match &document.value {
        Value::Sequence(items) => items.first().is_some_and(is_container),
        Value::Mapping(_) => is_container(document),
        Value::Scalar { .. } => false,
    }
}

fn is_container(node: &Node) -> bool {
    let is_mapping = |key: &&str| node.get(key).is_some_and(|node| matches!(node.value, Value::Mapping(_)));
    node.get("Id").is_some() && ["Config", "HostConfig"].iter().all(is_mapping)
}

/// Reads every container of the document.
pub(super) fn read(
    document: &Node,
    source: &SourceText,
    folder: &Path,
    diagnostics: &mut Diagnostics,
) -> Runs {
    let mut runs = Runs::default();
    let mut taken = BTreeMap::new();
    let folder = folder.display().to_string();
    let items = match &document.value {
        Value::Sequence(items) => items.as_slice(),
        Value::Mapping(_) | Value::Scalar { .. } => std::slice::from_ref(document),
    };
    for node in items {
        if !is_container(node) {
            let message = "no container: it has no `Id`, `Config` and `HostConfig`".to_owned();
            diagnostics.add(Severity::Error, source, &node.span, message, None);
            continue;
        }
        if !is_shaped(node, source, diagnostics) {
            continue;
        }
        let engine = engine(node);
        let mut words = Words { node, all: Vec::new() };
        let pods = BTreeMap::new();
        words.options();
        let image = words.program();
        let mut reading =
            Reading { source, diagnostics, folder: &folder, volumes: &mut runs.volumes, pods: &pods };
        let Some(mut run) = reading.run(engine, &words.all, &mut taken) else { continue };
        reading.mounts(node, &mut run);
        reading.ids(node, &mut run);
        if node.find("Config.User").and_then(Node::text).is_none_or(str::is_empty) {
            runs.without_user.extend(image);
        }
        runs.push(engine, run);
    }
    runs
}

/// Podman says which runtime it starts and what an image is called.
fn engine(node: &Node) -> Runtime {
    let podman = ["OCIRuntime", "ImageName", "ConmonPidFile"].iter().any(|key| node.get(key).is_some());
    if podman { Runtime::Podman } else { Runtime::Docker }
}

/// The command line that makes such a container.
struct Words<'a> {
    node: &'a Node,
    all: Vec<Word>,
}

impl Words<'_> {
    fn word(&mut self, text: &str, at: &Node) {
        let span = at.span.clone();
        self.all.push(Word {
            text: text.to_owned(),
            unknown: None,
            quoted: true,
            defaults: Vec::new(),
            span,
        });
    }

    /// `--OPTION=VALUE`, at the value.
    fn option(&mut self, option: &str, value: &str, at: &Node) {
        self.word(&format!("--{option}={value}"), at);
    }

    /// The text at `path`, where it is not empty.
    fn said(&self, path: &str) -> Option<(&'_ Node, String)> {
        let node = self.node.find(path)?;
        let text = node.text().filter(|text| !text.is_empty() && !node.is_nothing())?;
        Some((node, text.to_owned()))
    }

    fn each(&mut self, option: &str, path: &str) {
        let items = self.node.find(path).map(|list| list.items().to_vec()).unwrap_or_default();
        for item in items {
            if let Some(text) = item.text() {
                self.option(option, text, &item);
            }
        }
    }

    fn switch(&mut self, option: &str, path: &str) {
        if let Some(node) = self.node.find(path).filter(|node| node.text() == Some("true")).cloned() {
            self.word(&format!("--{option}"), &node);
        }
    }

    fn text(&mut self, option: &str, path: &str) {
        if let Some((node, text)) = self.said(path).map(|(node, text)| (node.clone(), text)) {
            self.option(option, &text, &node);
        }
    }

    fn options(&mut self) {
        if let Some((node, name)) = self.said("Name").map(|(node, text)| (node.clone(), text)) {
            self.option("name", name.trim_start_matches('/'), &node);
        }
        // It is the image's user where the command line named none.
        self.text("user", "Config.User");
        self.each("group-add", "HostConfig.GroupAdd");
        let annotation = self.node.find("Config.Annotations");
        if let Some(kept) = annotation.and_then(|all| all.get("run.oci.keep_original_groups")).cloned() {
            self.option("group-add", "keep-groups", &kept);
        }
        self.overlays();
        self.capabilities();
        self.switch("privileged", "HostConfig.Privileged");
        self.switch("read-only", "HostConfig.ReadonlyRootfs");
        self.each("security-opt", "HostConfig.SecurityOpt");
        self.switch("tty", "Config.Tty");
        self.switch("interactive", "Config.OpenStdin");
        self.text("umask", "Config.Umask");
        self.text("workdir", "Config.WorkingDir");
        for (option, path) in [
            ("ipc", "HostConfig.IpcMode"),
            ("pid", "HostConfig.PidMode"),
            ("network", "HostConfig.NetworkMode"),
        ] {
            let joins = |mode: &str| ["host", "none"].contains(&mode) || mode.starts_with("container:");
            if self.said(path).is_some_and(|(_, mode)| joins(&mode)) {
                self.text(option, path);
            }
        }
        self.user_namespace();
        self.tmpfs();
    }

    /// Podman says what came of it: what is left for any program, and what is in force. Docker says what was asked for.
    fn capabilities(&mut self) {
        let Some(left) = self.node.get("BoundingCaps").cloned() else {
            self.each("cap-add", "HostConfig.CapAdd");
            return self.each("cap-drop", "HostConfig.CapDrop");
        };
        if self.node.find("HostConfig.Privileged").and_then(Node::text) == Some("true") {
            // Nothing is taken from such a container; of a user's programs those are in force that were asked for.
            return self.each("cap-add", "EffectiveCaps");
        }
        let names: Vec<&str> = left.items().iter().filter_map(Node::text).collect();
        let is_left =
            |one: &Capability| names.iter().any(|name| name.strip_prefix("CAP_") == Some(one.name()));
        for gone in Capability::ALL.iter().filter(|one| !is_left(one)) {
            self.option("cap-drop", gone.name(), &left);
        }
        self.each("cap-add", "EffectiveCaps");
    }

    /// Binds under an overlay of their own, of which nothing but the command line tells.
    fn overlays(&mut self) {
        let words =
            self.node.find("Config.CreateCommand").map(|list| list.items().to_vec()).unwrap_or_default();
        for word in words {
            let Some(text) = word.text() else { continue };
            let value =
                text.split_once('=').filter(|_| text.starts_with("-")).map_or(text, |(_, value)| value);
            let parts: Vec<&str> = value.split(':').collect();
            if let [source, _, options] = parts.as_slice()
                && source.starts_with('/')
                && options.split(',').any(|option| option == "O")
            {
                self.option("volume", value, &word);
            }
        }
    }

    /// `--userns keep-id` or `nomap` of the command line that made it, before the image.
    fn typed_namespace(&self) -> Option<(String, Node)> {
        let words = self.node.find("Config.CreateCommand")?.items();
        let mut words = words.iter();
        let image = |text: &str| {
            let known = ["Config.Image", "ImageName"].iter().filter_map(|path| self.said(path));
            known.into_iter().any(|(_, name)| name == text || name.ends_with(&format!("/{text}")))
        };
        while let Some(word) = words.next() {
            let text = word.text().filter(|text| !image(text))?;
            let (mode, at) = match text.strip_prefix("--userns") {
                Some("") => {
                    let value = words.next()?;
                    (value.text()?, value)
                }
                Some(rest) => (rest.strip_prefix('=')?, word),
                None => continue,
            };
            return ["keep-id", "nomap"]
                .iter()
                .any(|known| mode.starts_with(known))
                .then(|| (mode.to_owned(), at.clone()));
        }
        None
    }

    fn user_namespace(&mut self) {
        // What comes of `keep-id` and `nomap` is more than their maps, and nothing but the command line tells.
        if let Some((mode, at)) = self.typed_namespace() {
            return self.option("userns", &mode, &at);
        }
        let maps = self.node.find("HostConfig.IDMappings").is_some_and(|maps| !maps.is_nothing());
        if maps {
            self.each("uidmap", "HostConfig.IDMappings.UidMap");
            self.each("gidmap", "HostConfig.IDMappings.GidMap");
        } else if self.said("HostConfig.UsernsMode").is_some_and(|(_, mode)| mode != "private") {
            self.text("userns", "HostConfig.UsernsMode");
        }
    }

    fn tmpfs(&mut self) {
        let engine = engine(self.node);
        let read_only = self.node.find("HostConfig.ReadonlyRootfs").and_then(Node::text) == Some("true");
        let Some(node) = self.node.find("HostConfig.Tmpfs") else { return };
        let Value::Mapping(pairs) = &node.value else { return };
        let (node, pairs) = (node.clone(), pairs.clone());
        let mut scratch = false;
        for (key, options) in &pairs {
            let (Some(at), Some(given)) = (key.text(), options.text()) else { continue };
            // Those that Podman adds below a read-only root come with that.
            let own = engine == Runtime::Podman && read_only && ["/run", "/tmp", "/var/tmp"].contains(&at);
            if own && given == "rw,rprivate,nosuid,nodev,tmpcopyup" {
                scratch = true;
                continue;
            }
            let kept = given.split(',').filter(|option| !option.ends_with("private") && !option.is_empty());
            let kept: Vec<&str> = kept.collect();
            let colon = if kept.is_empty() { "" } else { ":" };
            self.option("tmpfs", &format!("{at}{colon}{}", kept.join(",")), key);
        }
        if engine == Runtime::Podman && read_only && !scratch {
            self.option("read-only-tmpfs", "false", &node);
        }
    }

    /// The image, and what is started in it: both engines say that as a path with arguments.
    fn program(&mut self) -> Option<String> {
        if let Some((node, path)) = self.said("Path").map(|(node, text)| (node.clone(), text)) {
            let list = serde_json::Value::from(vec![path]).to_string();
            self.option("entrypoint", &list, &node);
        }
        let image =
            self.said("ImageName").or_else(|| self.said("Config.Image")).or_else(|| self.said("Image"));
        let (node, image) =
            image.map_or_else(|| (self.node.clone(), String::new()), |(node, text)| (node.clone(), text));
        self.word(&image, &node);
        let arguments = self.node.get("Args").map(|list| list.items().to_vec()).unwrap_or_default();
        for argument in arguments {
            if let Some(text) = argument.text() {
                self.word(text, &argument);
            }
        }
        Some(image).filter(|image| !image.is_empty())
    }
}
