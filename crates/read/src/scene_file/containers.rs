//! Containers that the scene file itself describes.

use std::sync::Arc;

use mivask_core::caps::{Capability, CapabilitySet};
use mivask_core::fact::Fact;
use mivask_core::identity::{DeclaredCapabilities, GroupName, PlainIdentity, PodSecurity};
use mivask_core::ids::{MountIds, UserNamespace};
use mivask_core::mode::Mode;
use mivask_core::namespace::NamespaceAsked;
use mivask_core::runtime::Flavour;
use mivask_core::scene::{
    Container, LabelAsked, ProfileAsked, Program, Volume, VolumeKind, VolumeMount, Who, Workload,
};
use mivask_core::stage::Role;

use super::convert::Reading;
use super::types::{CapabilityList, ContainerSection, MountSection, SceneFile};
use crate::diagnostic::Severity;
use crate::nearest::nearest;
use crate::yaml::Node;
use crate::yaml::RawText;

impl Reading<'_> {
    /// The containers of the scene as one workload; `None` where it has none.
    pub(super) fn containers(&mut self, scene: &SceneFile, root: &Node) -> Option<Workload> {
        let node = root.get("containers")?;
        let mut volumes: Vec<Volume> = Vec::new();
        let mut containers = Vec::new();
        let mut security = PodSecurity::default();
        for (index, section) in scene.containers.iter().enumerate() {
            let item = node.item(index)?;
            let container = self.container(scene, section, item, &mut volumes);
            if let Who::Plain(plain) = &container.who
                && let Some(group) = &plain.filesystem_group
            {
                self.one_group(&security, group, item);
                security.fs_group.get_or_insert_with(|| group.clone());
            }
            containers.push(container);
        }
        if containers.is_empty() {
            return None;
        }
        Some(Workload {
            name: "scene".to_owned(),
            kind: "scene".to_owned(),
            flavour: Flavour::Scene,
            namespace: String::new(),
            own_users: None,
            security,
            volumes,
            containers,
            service_account_token: None,
            from: self.source.place(&node.span, "containers"),
        })
    }

    fn one_group(&mut self, security: &PodSecurity, group: &Fact<u32>, item: &Node) {
        if security.fs_group.as_ref().is_some_and(|first| first.value != group.value) {
            let span = &item.get("filesystem-group").unwrap_or(item).span;
            let message = "volumes can be given to one filesystem group only: that of the first container counts for them";
            self.diagnostics.add(Severity::Warning, self.source, span, message, None);
        }
    }

    fn container(
        &mut self,
        scene: &SceneFile,
        section: &ContainerSection,
        item: &Node,
        volumes: &mut Vec<Volume>,
    ) -> Container {
        let mounts_node = item.get("mounts").unwrap_or(item);
        let mounts = section.mounts.iter().enumerate();
        let mounts: Vec<VolumeMount> = mounts
            .filter_map(|(index, mount)| self.mount(scene, mount, mounts_node.item(index)?, volumes))
            .collect();
        let plain = self.identity(section, item);
        Container {
            role: Role::App,
            image: section.image.clone().map(|image| self.fact(item, "image", image)),
            read_only_root: section.read_only_root,
            privileged: section.privileged.unwrap_or(false),
            who: Who::Plain(Box::new(plain)),
            mounts,
            label: LabelAsked {
                whole: section.label.clone().map(|label| self.fact(item, "label", label)),
                ..LabelAsked::default()
            },
            apparmor: section
                .apparmor
                .clone()
                .map(|name| ProfileAsked::named(self.fact(item, "apparmor", name)))
                .unwrap_or_default(),
            working_directory: None,
            program: Program {
                entrypoint: section
                    .program
                    .as_ref()
                    .map(|program| self.fact(item, "program", program.clone().into_bytes())),
                ..Program::default()
            },
            ..Container::new(&section.name, self.source.place(&item.span, "containers"))
        }
    }

    fn fact<T>(&self, item: &Node, key: &str, value: T) -> Fact<T> {
        let node = item.find(key).unwrap_or(item);
        Fact::new(value, self.source.place(&node.span, &format!("containers.{key}")))
    }

    fn identity(&mut self, section: &ContainerSection, item: &Node) -> PlainIdentity {
        let names = |key: &str, names: &[String]| {
            let path = format!("capabilities.{key}");
            names.iter().map(|name| self.fact(item, &path, name.clone())).collect()
        };
        let capabilities = DeclaredCapabilities {
            add: names("add", &section.capabilities.add),
            drop: names("drop", &section.capabilities.drop),
        };
        let umask = section.umask.as_ref().and_then(|umask| self.umask(umask, item));
        let effective = section.effective_capabilities.as_ref().and_then(|list| self.effective(list, item));
        let user_namespace = section.user_namespace.as_ref().map(|maps| {
            let (uids, gids) =
                self.id_maps(&maps.uids, &maps.gids, item.get("user-namespace").unwrap_or(item));
            let ids = Arc::new(UserNamespace { uids, gids });
            self.fact(item, "user-namespace", NamespaceAsked::Ids(ids))
        });
        PlainIdentity {
            user_namespace,
            user: section.user.as_ref().map(|user| self.fact(item, "user", user.0.clone())),
            untold: None,
            groups: section
                .groups
                .iter()
                .map(|group| self.fact(item, "groups", GroupName::Number(*group)))
                .collect(),
            filesystem_group: section
                .filesystem_group
                .map(|group| self.fact(item, "filesystem-group", group)),
            capabilities,
            effective,
            privileged: section.privileged.map(|given| self.fact(item, "privileged", given)),
            no_new_privileges: section
                .no_new_privileges
                .map(|given| self.fact(item, "no-new-privileges", given)),
            umask,
        }
    }

    pub(super) fn umask(&mut self, text: &RawText, item: &Node) -> Option<Fact<Mode>> {
        let mode = self.umask_at(text, item.get("umask").unwrap_or(item))?;
        Some(self.fact(item, "umask", mode))
    }

    /// The umask that stands at `at`; a mistake where it is none.
    pub(super) fn umask_at(&mut self, text: &RawText, at: &Node) -> Option<Mode> {
        let mode = text.mode().filter(|mode| mode.bits() <= 0o777);
        if mode.is_none() {
            let help = Some("write octal digits, such as 0027".to_owned());
            let message = format!("`{}` is not a umask", text.0.escape_debug());
            self.diagnostics.add(Severity::Error, self.source, &at.span, message, help);
        }
        mode
    }

    fn effective(&mut self, list: &CapabilityList, item: &Node) -> Option<Fact<CapabilitySet>> {
        let names = match list {
            CapabilityList::All(word) if word.eq_ignore_ascii_case("all") => {
                return Some(self.fact(item, "effective-capabilities", CapabilitySet::ALL));
            }
            CapabilityList::All(word) => std::slice::from_ref(word),
            CapabilityList::Names(names) => names,
        };
        let mut set = CapabilitySet::EMPTY;
        for name in names {
            match Capability::by_name(name) {
                Some(capability) => set = set.with(capability),
                None => {
                    let span = &item.get("effective-capabilities").unwrap_or(item).span;
                    let known = Capability::ALL.iter().map(|capability| capability.name());
                    let help = nearest(name, known).map(|known| format!("did you mean {known}?"));
                    let message = format!("Linux has no capability `{}`", name.escape_debug());
                    self.diagnostics.add(Severity::Error, self.source, span, message, help);
                }
            }
        }
        Some(self.fact(item, "effective-capabilities", set))
    }

    fn mount(
        &mut self,
        scene: &SceneFile,
        mount: &MountSection,
        item: &Node,
        volumes: &mut Vec<Volume>,
    ) -> Option<VolumeMount> {
        let at = item.get("volume").unwrap_or(item);
        if !scene.volumes.contains_key(&mount.volume) && !self.files.gives(&mount.volume) {
            let help = match nearest(&mount.volume, scene.volumes.keys().map(String::as_str)) {
                Some(known) => format!("did you mean `{known}`?"),
                None => {
                    let name = mount.volume.escape_debug();
                    format!("declare it under `volumes:`, or give its files with --disk {name}=SOURCE")
                }
            };
            let message = format!("volume `{}` is mounted but not declared", mount.volume.escape_debug());
            self.diagnostics.add(Severity::Error, self.source, &at.span, message, Some(help));
            return None;
        }
        if !mount.at.starts_with('/') || mount.at.split('/').any(|part| part == "..") {
            let span = &item.get("at").unwrap_or(item).span;
            self.diagnostics.add(
                Severity::Error,
                self.source,
                span,
                "a mount needs an absolute path without `..`",
                None,
            );
            return None;
        }
        let name = Fact::new(mount.volume.clone(), self.source.place(&at.span, "mounts.volume"));
        if !volumes.iter().any(|known| known.name.value == mount.volume) {
            volumes.push(Volume { name: name.clone(), kind: VolumeKind::Stored(mount.volume.clone()) });
        }
        let flags = self.options(&mount.options, item.get("options").unwrap_or(item), None);
        let ids = mount.id_map.as_ref().map(|maps| {
            let (uids, gids) = self.id_maps(&maps.uids, &maps.gids, item.get("id-map").unwrap_or(item));
            MountIds { uids, gids }
        });
        let path = item.get("at").unwrap_or(item);
        let at = Fact::new(mount.at.as_bytes().to_vec(), self.source.place(&path.span, "mounts.at"));
        Some(VolumeMount {
            read_only: mount.read_only,
            flags,
            ids: ids.unwrap_or_default(),
            sub_path: mount.sub_path.as_ref().map(|path| {
                let span = &item.get("sub-path").unwrap_or(item).span;
                Fact::new(path.as_bytes().to_vec(), self.source.place(span, "mounts.sub-path"))
            }),
            ..VolumeMount::new(name, at)
        })
    }
}
