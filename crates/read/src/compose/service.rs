//! One service.

use std::collections::BTreeSet;

use mivask_core::fact::Fact;
use mivask_core::identity::{DeclaredCapabilities, GroupName, PlainIdentity};
use mivask_core::namespace::{self, NamespaceAsked};
use mivask_core::outcome::Errno;
use mivask_core::path::trimmed;
use mivask_core::scene::{Container, LabelAsked, Lent, ProfileAsked, Program, VolumeMount, Who};
use mivask_core::stage::Role;
use mivask_core::unmodelled::Unmodelled;

use super::project::Reading;
use super::types::Service;
use crate::diagnostic::Severity;
use crate::dockerfile::words;
use crate::yaml::{Node, Scalar, Value, resolve};

/// What `security_opt` says.
#[derive(Default)]
struct Options {
    no_new_privileges: Option<Fact<bool>>,
    unmasked: bool,
    apparmor: ProfileAsked,
    label: LabelAsked,
}

impl Reading<'_> {
    /// The container of the service `name`.
    pub(super) fn service(&mut self, name: &str, node: &Node) -> Option<Container> {
        let given: Service = self.typed(node)?;
        let at = |key: &str| node.get(key).unwrap_or(node);
        let listed = self.list(node, "security_opt");
        let mut options = self.security_options(listed);
        // Docker and Podman leave a container alone that sees the host's processes.
        if node.get("pid").and_then(Node::text) == Some("host") {
            options.label.disabled.get_or_insert_with(|| self.place(at("pid"), "pid"));
        }
        let mounts = self.mounts(name, node);
        let image = given.image.clone().unwrap_or_else(|| format!("{}-{name}", self.name));
        if let Some(build) = node.get("build") {
            self.build(&image, build);
        }
        let fact = |reading: &Self, key: &str, value: bool| Fact::new(value, reading.place(at(key), key));
        let plain = PlainIdentity {
            user: given.user.map(|user| Fact::new(user.0, self.place(at("user"), "user"))),
            untold: None,
            groups: self.groups(node),
            filesystem_group: None,
            capabilities: DeclaredCapabilities {
                add: self.names(node, "cap_add"),
                drop: self.names(node, "cap_drop"),
            },
            effective: None,
            privileged: given.privileged.map(|value| fact(self, "privileged", value)),
            no_new_privileges: options.no_new_privileges,
            umask: None,
            user_namespace: self.user_namespace(given.userns_mode.as_deref(), at("userns_mode")),
        };
        Some(Container {
            role: Role::App,
            image: Some(Fact::new(image, self.place(at("image"), "image"))),
            who: Who::Plain(Box::new(plain)),
            read_only_root: given.read_only == Some(true),
            privileged: given.privileged == Some(true),
            unmasked: options.unmasked,
            label: options.label,
            apparmor: options.apparmor,
            ipc: self.ipc(node),
            network_of: self.network_of(node),
            without_network: node.get("network_mode").and_then(Node::text) == Some("none"),
            terminal: given.tty == Some(true),
            holds_input: given.stdin_open == Some(true),
            lenders: std::mem::take(&mut self.lenders),
            files: std::mem::take(&mut self.given_files),
            mounts,
            working_directory: given
                .working_dir
                .map(|path| Fact::new(path.into_bytes(), self.place(at("working_dir"), "working_dir"))),
            program: self.program(node),
            unmodelled: std::mem::take(&mut self.unmodelled),
            ..Container::new(name, self.place(node, "services"))
        })
    }

    /// What it starts: `null` leaves the image's, an empty list or text takes it away (Compose specification, `entrypoint`).
    fn program(&self, node: &Node) -> Program {
        let word = |key: &str| {
            let given = node.get(key).filter(|given| !given.is_nothing())?;
            let first = match (given.is_list(), given.text()) {
                (true, _) => given.items().first().and_then(Node::text).unwrap_or_default().to_owned(),
                (false, Some(text)) => words(text, '\\', &|_| None).into_iter().next().unwrap_or_default(),
                (false, None) => return None,
            };
            Some(Fact::new(first.into_bytes(), self.place(given, key)))
        };
        let named =
            |node: &Node| Some(Fact::new(node.text()?.as_bytes().to_vec(), self.place(node, "environment")));
        let search = node.get("environment").and_then(|given| {
            if given.is_list() {
                let path = |item: &Node| {
                    let value = item.text()?.strip_prefix("PATH=")?.as_bytes().to_vec();
                    Some(Fact::new(value, self.place(item, "environment")))
                };
                return given.items().iter().rev().find_map(path);
            }
            given.get("PATH").and_then(named)
        });
        Program { entrypoint: word("entrypoint"), command: word("command"), search }
    }

    /// The user namespace that it asks for; of one that nobody knows the answers depend.
    fn user_namespace(&mut self, mode: Option<&str>, node: &Node) -> Option<Fact<NamespaceAsked>> {
        let asked = namespace::mode(mode?)?;
        if let NamespaceAsked::Elsewhere(name) = &asked {
            let settle = "give its maps under `host: { user-namespace: ... }` in a scene file";
            let message = format!(
                "nobody knows the user namespace `{}`: answers depend on the ids it gives",
                name.escape_debug()
            );
            self.diagnostic(Severity::Warning, node, &message, Some(settle.to_owned()));
        }
        Some(Fact::new(asked, self.place(node, "userns_mode")))
    }

    fn names(&mut self, node: &Node, key: &str) -> Vec<Fact<String>> {
        let items = self.list(node, key).iter();
        items.filter_map(|item| Some(Fact::new(item.text()?.to_owned(), self.place(item, key)))).collect()
    }

    fn groups(&mut self, node: &Node) -> Vec<Fact<GroupName>> {
        let number = |item: &Node, text: &str| match (&item.value, resolve(text)) {
            (Value::Scalar { plain: true, .. }, Scalar::Int(number)) => u32::try_from(number).ok(),
            // A text is the engine's to read, which knows decimal numbers alone.
            (Value::Scalar { .. }, _) => {
                text.bytes().all(|byte| byte.is_ascii_digit()).then(|| text.parse().ok())?
            }
            (Value::Sequence(_) | Value::Mapping(_), _) => None,
        };
        let items = self.list(node, "group_add").iter();
        let group = |item: &Node| {
            let text = item.text()?;
            let group =
                number(item, text).map_or_else(|| GroupName::Name(text.to_owned()), GroupName::Number);
            Some(Fact::new(group, self.place(item, "group_add")))
        };
        items.filter_map(group).collect()
    }

    fn security_options(&mut self, list: &[Node]) -> Options {
        let mut options = Options::default();
        for item in list {
            let text = item.text().unwrap_or_default();
            let (key, value) = text.split_once([':', '=']).unwrap_or((text, ""));
            match (key, value) {
                ("no-new-privileges", "" | "true") => {
                    options.no_new_privileges = Some(Fact::new(true, self.place(item, "security_opt")));
                }
                ("no-new-privileges", "false") => {}
                ("systempaths" | "unmask", "unconfined" | "ALL") => options.unmasked = true,
                ("label", "disable") => options.label.disabled = Some(self.place(item, "security_opt")),
                ("seccomp", "unconfined") => {}
                ("label", _) => self.label(item, text, value, &mut options.label),
                ("apparmor", _) => {
                    let named = Fact::new(value.to_owned(), self.place(item, "security_opt"));
                    options.apparmor = ProfileAsked::named(named);
                    if let ProfileAsked::Own(name) = &options.apparmor {
                        let message = format!(
                            "what the AppArmor profile {} permits is not known",
                            name.value.escape_debug()
                        );
                        self.diagnostic(Severity::Note, item, &message, None);
                    }
                }
                ("seccomp", _) => {
                    let name = format!("the seccomp profile {}", value.escape_debug());
                    self.policy(item, Severity::Note, &name, Errno::EPERM);
                }
                _ => {
                    let name = format!("the security option `{}`", text.escape_debug());
                    self.policy(item, Severity::Warning, &name, Errno::EPERM);
                }
            }
        }
        options
    }

    /// `label=type:...` and its like: a part of the label of the process.
    fn label(&mut self, item: &Node, text: &str, value: &str, label: &mut LabelAsked) {
        let from = self.place(item, "security_opt");
        let words = format!("SELinux with `{}`", text.escape_debug());
        let part = value.split_once(':').unwrap_or((value, ""));
        let given = Some(Fact::new(part.1.to_owned(), from.clone()));
        match part.0 {
            "user" => label.user = given,
            "role" => label.role = given,
            "type" => label.type_ = given,
            "level" => label.level = given,
            // Which label a nested or file-typed container gets is the engine's.
            _ => return self.policy(item, Severity::Note, &words, Errno::EACCES),
        }
        label.words.get_or_insert_with(|| Fact::new(words, from));
    }

    /// Something that may refuse with `errno`, of which no more is known.
    fn policy(&mut self, node: &Node, severity: Severity, name: &str, errno: Errno) {
        let message = format!("{name} is not modelled: it may refuse what all else permits");
        self.diagnostic(severity, node, &message, None);
        self.unmodelled.push(Unmodelled::policy(name, errno, self.place(node, "security_opt")));
    }

    /// Every mount of a service: its volumes, tmpfs, secrets and configs, and those of other services.
    fn mounts(&mut self, name: &str, node: &Node) -> Vec<VolumeMount> {
        let mut mounts: Vec<VolumeMount> = Vec::new();
        for item in self.list(node, "volumes") {
            let Some(asked) = self.service_volume(item) else { continue };
            // Of two at one path Compose keeps the last, where the first stood (compose-go, `EnforceUnicity`).
            let path = trimmed(asked.target.as_bytes()).to_vec();
            let before = mounts.iter().position(|known| trimmed(&known.at.value) == path);
            if let Some(before) = before {
                let own = format!("{name}:{}", String::from_utf8_lossy(&mounts[before].at.value));
                self.volumes.retain(|volume| volume.name.value != own);
            }
            match (before, self.attach(name, asked, item)) {
                (Some(before), Some(mount)) => mounts[before] = mount,
                (_, mount) => mounts.extend(mount),
            }
        }
        let tmpfs: &[Node] = match node.get("tmpfs") {
            Some(one) if one.text().is_some() => std::slice::from_ref(one),
            Some(_) | None => self.list(node, "tmpfs"),
        };
        for item in tmpfs {
            let asked = self.tmpfs(item);
            mounts.extend(asked.and_then(|asked| self.attach(name, asked, item)));
        }
        mounts.extend(self.grants(name, node));
        let mut lenders = BTreeSet::new();
        for item in self.list(node, "volumes_from") {
            // One of its own at the same path comes first.
            let lent = self.borrowed(item, &mut lenders);
            let lent: Vec<VolumeMount> =
                lent.into_iter().filter(|lent| !mounts.iter().any(|own| same_path(own, lent))).collect();
            mounts.extend(lent);
        }
        self.twice(&mut mounts, node);
        mounts
    }

    /// `volumes_from: SERVICE[:ro]`, those that the service has from others included; `container:NAME[:ro]` is of a container that
    /// no service of the file makes.
    fn borrowed(&mut self, item: &Node, lenders: &mut BTreeSet<String>) -> Vec<VolumeMount> {
        let text = item.text().unwrap_or_default();
        // What one lends is there once, however many ways lead to it.
        if !lenders.insert(text.to_owned()) {
            return Vec::new();
        }
        if let Some(name) = text.strip_prefix("container:") {
            let name = format!("the volumes of the container `{}`", name.escape_debug());
            let message = format!("{name} are not known: what is mounted where they are may be otherwise");
            self.diagnostic(Severity::Warning, item, &message, None);
            let from = self.place(item, "volumes_from");
            self.unmodelled.push(Unmodelled::policy(&name, Errno::ENOENT, from));
            return Vec::new();
        }
        let (service, mode) = text.split_once(':').unwrap_or((text, ""));
        let place = item;
        let Some(other) = self.root.get("services").and_then(|services| services.get(service)) else {
            let message =
                format!("there is no service `{}` whose volumes could be taken", service.escape_debug());
            self.diagnostic(Severity::Error, item, &message, None);
            return Vec::new();
        };
        let lent = other.get("volumes").map(Node::items).unwrap_or_default();
        let mut mounts = Vec::new();
        for item in lent {
            let asked = self.service_volume(item);
            // A volume of its own keeps the name it has in the service that lends it.
            mounts.extend(asked.and_then(|asked| self.attach(service, asked, item)));
        }
        let lent = if mode.is_empty() { Lent::Plain } else { Lent::WithMode };
        for mount in &mut mounts {
            mount.engine.lent = Some(lent);
        }
        let from = self.place(place, "volumes_from");
        self.lenders.push((Fact::new(service.to_owned(), from), lent, mode == "ro"));
        let further = other.get("volumes_from").map(Node::items).unwrap_or_default();
        if lenders.len() <= MOST_LENDERS {
            for item in further {
                let lent = self.borrowed(item, lenders);
                let lent: Vec<VolumeMount> =
                    lent.into_iter().filter(|lent| !mounts.iter().any(|own| same_path(own, lent))).collect();
                mounts.extend(lent);
            }
        }
        mounts.iter_mut().for_each(|mount| mount.read_only |= mode == "ro");
        mounts
    }

    /// Two mounts at one path are refused.
    fn twice(&mut self, mounts: &mut Vec<VolumeMount>, node: &Node) {
        let mut seen: Vec<Vec<u8>> = Vec::new();
        mounts.retain(|mount| {
            let path = mount.at.value.clone();
            let again = seen.contains(&path);
            if again {
                let message = format!(
                    "two volumes are mounted at {}: the engine refuses that",
                    String::from_utf8_lossy(&path)
                );
                self.diagnostics.add(Severity::Error, self.source, &node.span, message, None);
            }
            seen.push(path);
            !again
        });
    }
}

/// Services that lend to one, itself or through others; what more lend is left out.
const MOST_LENDERS: usize = 32;

/// Whether both are mounted at one path.
fn same_path(one: &VolumeMount, other: &VolumeMount) -> bool {
    trimmed(&one.at.value) == trimmed(&other.at.value)
}

/// The pairs of a mapping; empty where it is not a mapping.
pub(super) fn pairs(node: &Node) -> &[(Node, Node)] {
    match &node.value {
        Value::Mapping(pairs) => pairs,
        Value::Sequence(_) | Value::Scalar { .. } => &[],
    }
}
