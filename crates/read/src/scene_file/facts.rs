//! Facts about images, volumes and the host.

use std::sync::Arc;

use mivask_core::accounts::Accounts;
use mivask_core::fact::Fact;
use mivask_core::host_mounts::HostMounts;
use mivask_core::identity::{ImageFacts, Knowledge};
use mivask_core::ids::UserNamespace;
use mivask_core::mount::MountFlags;
use mivask_core::personality::{OptionError, Personality, Squash};
use mivask_core::scene::{Host, Image, Program, VolumeFacts};
use mivask_core::storage::Settings;
use mivask_core::tree::Tree;
use mivask_disk::image::Choice;

use super::convert::Reading;
use super::tree_source::TreeSource;
use super::types::{
    AccountsSection, ExportSection, GroupOwnership, HostSection, ImageSection, SquashWord, VolumeSection,
};
use crate::accounts;
use crate::diagnostic::Severity;
use crate::disk;
use crate::labels::is_about_labels;
use crate::nearest::nearest;
use crate::yaml::Node;

/// An image with what was given beside it on top.
#[must_use]
pub fn over(from: Image, given: Image) -> Image {
    let user = match given.identity.user {
        Knowledge::Unknown => from.identity.user,
        known @ Knowledge::Known(_) => known,
    };
    let accounts = match given.identity.accounts {
        Knowledge::Unknown => from.identity.accounts,
        known @ Knowledge::Known(_) => known,
    };
    Image {
        identity: ImageFacts { user, accounts, covered: false },
        tree: given.tree.or(from.tree),
        volumes: if given.volumes.is_empty() { from.volumes } else { given.volumes },
        working_directory: given.working_directory.or(from.working_directory),
        program: match (given.program, from.program) {
            (Knowledge::Known(given), Knowledge::Known(from)) => Knowledge::Known(given.over(from)),
            (known @ Knowledge::Known(_), Knowledge::Unknown) | (Knowledge::Unknown, known) => known,
        },
        ..given
    }
}

/// Mount options that decide nothing here.
const HARMLESS: [&str; 12] = [
    "rw",
    "exec",
    "suid",
    "dev",
    "relatime",
    "noatime",
    "nodiratime",
    "strictatime",
    "defaults",
    "sync",
    "async",
    "symfollow",
];

impl Reading<'_> {
    /// One image; `node` is its section.
    pub(super) fn image(&mut self, name: &str, section: &ImageSection, node: &Node) -> Image {
        let user = match &section.user {
            None => Knowledge::Unknown,
            Some(user) => Knowledge::Known(user.as_ref().map(|user| {
                let span = &node.get("user").unwrap_or(node).span;
                Fact::new(user.0.clone(), self.source.place(span, &format!("images.{name}.user")))
            })),
        };
        let accounts = match (&section.accounts, node.get("accounts")) {
            (Some(given), Some(at)) => match self.accounts(name, given.as_ref(), at) {
                Some(accounts) => Knowledge::Known(accounts),
                None => Knowledge::Unknown,
            },
            _ => Knowledge::Unknown,
        };
        let given = section.tree.as_ref().zip(node.get("tree"));
        let mut tree = given.and_then(|(given, node)| self.tree(&format!("image {name}"), given, node));
        if let Some(tree) = &mut tree {
            Arc::make_mut(tree).lower();
        }
        let field = |key: &str| format!("images.{name}.{key}");
        let listed = node.get("volumes").unwrap_or(node);
        let volumes = section.volumes.iter().enumerate().map(|(index, path)| {
            let span = &listed.item(index).unwrap_or(listed).span;
            Fact::new(path.as_bytes().to_vec(), self.source.place(span, &field("volumes")))
        });
        let volumes = volumes.collect();
        let working_directory = section.working_directory.as_ref().map(|path| {
            let span = &node.get("working-directory").unwrap_or(node).span;
            Fact::new(path.as_bytes().to_vec(), self.source.place(span, &field("working-directory")))
        });
        let program = section.program.as_ref().map_or(Knowledge::Unknown, |program| {
            let span = &node.get("program").unwrap_or(node).span;
            let word = Fact::new(program.as_bytes().to_vec(), self.source.place(span, &field("program")));
            Knowledge::Known(Program { entrypoint: Some(word), ..Program::default() })
        });
        let identity = ImageFacts { user, accounts, covered: false };
        let given = Image { identity, tree, volumes, working_directory, program, ..Image::default() };
        match section.from.as_deref().zip(node.get("from")) {
            Some((path, at)) => {
                self.image_from(name, section, path, at).map_or(given.clone(), |from| over(from, given))
            }
            None => given,
        }
    }

    /// The image at `path`.
    fn image_from(&mut self, name: &str, section: &ImageSection, path: &str, at: &Node) -> Option<Image> {
        let choice =
            Choice { name: Some(name.to_owned()), name_is_a_hint: true, platform: section.platform.clone() };
        let (shown, gathered) = self.gathered(path, &choice, at)?;
        Some(disk::image(&shown, gathered))
    }

    fn accounts(&mut self, image: &str, section: Option<&AccountsSection>, node: &Node) -> Option<Accounts> {
        let Some(section) = section else {
            return Some(Accounts::default());
        };
        let passwd = self.account_text(image, "passwd", section.passwd.as_deref(), node)?;
        let group = self.account_text(image, "group", section.group.as_deref(), node)?;
        Some(Accounts {
            passwd: passwd.map(|(name, text)| accounts::passwd(&name, &text)),
            group: group.map(|(name, text)| accounts::group(&name, &text)),
            incomplete: None,
        })
    }

    /// The name and text of an account file, given by path or as the text itself. The inner `None`: no such file.
    #[expect(clippy::option_option, reason = "no such file and unreadable differ")]
    pub(super) fn account_text(
        &mut self,
        image: &str,
        key: &str,
        value: Option<&str>,
        node: &Node,
    ) -> Option<Option<(String, String)>> {
        let Some(value) = value else {
            return Some(None);
        };
        let at = node.get(key).unwrap_or(node);
        if value.contains(':') || value.trim().is_empty() {
            return Some(Some((format!("{key} of {image}"), value.to_owned())));
        }
        match self.read_file(value) {
            Ok((name, text)) => Some(Some((name, text))),
            Err(reason) => {
                self.diagnostics.add(Severity::Error, self.source, &at.span, reason, None);
                None
            }
        }
    }

    /// One volume; `node` is its section.
    pub(super) fn volume(&mut self, name: &str, section: &VolumeSection, node: &Node) -> VolumeFacts {
        let given = section.tree.as_ref().zip(node.get("tree"));
        let mut listed = given.and_then(|(given, node)| self.tree(&format!("volume {name}"), given, node));
        let at = |key: &str| node.get(key).unwrap_or(node);
        // What a server exports is NFS, a claim whose volume says so elsewhere among it.
        let exported = section.export.is_some().then(|| "nfs".to_owned());
        let mut filesystem = section.filesystem.clone().or(exported);
        let mut personality = Personality::default();
        match filesystem.as_deref().map(|kind| (kind, Personality::of(kind))) {
            None => {}
            Some((_, Some(known))) => personality = known,
            Some((kind, None)) => {
                let message = format!(
                    "the rules of {} are not known to this version: answers on this volume depend on it",
                    kind.escape_debug()
                );
                self.diagnostics.add(Severity::Warning, self.source, &at("filesystem").span, message, None);
                listed = None;
                filesystem = None;
            }
        }
        self.export(section.export.as_ref(), &mut personality, at("export"));
        let flags = self.options(&section.options, at("options"), Some(&mut personality));
        let field = |key: &str| format!("volumes.{name}.{key}");
        VolumeFacts {
            tree: listed,
            filesystem: filesystem
                .map(|kind| Fact::new(kind, self.source.place(&at("filesystem").span, &field("filesystem")))),
            flags,
            personality,
            read_only_filesystem: section.read_only_filesystem,
            group_ownership: section.group_ownership.map(|given| {
                let from = self.source.place(&at("group-ownership").span, &field("group-ownership"));
                Fact::new(given == GroupOwnership::Apply, from)
            }),
            labels: Self::labels(section),
            from: self.source.place(&node.span, &format!("volumes.{name}")),
        }
    }

    /// How an NFS server exports the volume.
    fn export(&mut self, section: Option<&ExportSection>, personality: &mut Personality, node: &Node) {
        let Some(section) = section else { return };
        let Personality::Nfs(nfs) = personality else {
            let help = Some("say `filesystem: nfs` for the volume".to_owned());
            let message = "only NFS volumes are exported, so this is ignored";
            self.diagnostics.add(Severity::Warning, self.source, &node.span, message, help);
            return;
        };
        nfs.export.squash = section.squash.map(|word| match word {
            SquashWord::Root => Squash::Root,
            SquashWord::All => Squash::All,
            SquashWord::None => Squash::Nobody,
        });
        nfs.export.manages_groups = section.manages_groups;
        if let Some(text) = &section.anon {
            match text.disk_owner() {
                Some(owner) => nfs.export.anonymous = owner,
                None => {
                    let span = &node.get("anon").unwrap_or(node).span;
                    let message = format!("`{}` is not an anonymous user", text.0.escape_debug());
                    let help = Some("write UID:GID, such as 65534:65534".to_owned());
                    self.diagnostics.add(Severity::Error, self.source, span, message, help);
                }
            }
        }
    }

    /// Mount options: flags, and those that `personality` takes; others are warned about.
    pub(super) fn options(
        &mut self,
        options: &[String],
        node: &Node,
        mut personality: Option<&mut Personality>,
    ) -> MountFlags {
        let mut flags = MountFlags::default();
        for (index, option) in options.iter().enumerate() {
            if let Some(flag) = MountFlags::by_word(option) {
                flags = flags.with(flag);
                continue;
            }
            if HARMLESS.contains(&option.as_str()) || is_about_labels(option) {
                continue;
            }
            let taken = match &mut personality {
                Some(personality) => personality.option(option),
                None => Err(OptionError::Unknown),
            };
            let Err(error) = taken else { continue };
            let span = &node.item(index).unwrap_or(node).span;
            if let (OptionError::Unknown, Some(meant)) = (&error, slip(option, personality.as_deref())) {
                let message = format!("there is no mount option `{}`", option.escape_debug());
                let help = Some(format!("did you mean `{}`?", meant.escape_debug()));
                self.diagnostics.add(Severity::Error, self.source, span, message, help);
                continue;
            }
            let message = format!("the mount option `{}` {error}", option.escape_debug());
            let (severity, help) = match error {
                OptionError::Unknown => (
                    Severity::Warning,
                    Some("ro, noexec, nosuid, nodev and nosymfollow count on every mount".to_owned()),
                ),
                OptionError::Value(_) => (Severity::Error, None),
            };
            self.diagnostics.add(severity, self.source, span, message, help);
        }
        flags
    }

    /// What is on the host, put together where it is given in parts.
    fn host_tree(&mut self, section: &HostSection, node: &Node) -> Option<Arc<Tree>> {
        let given = section.tree.as_ref().zip(node.get("tree"));
        let mut whole = given.and_then(|(given, node)| self.whole_host(given, node));
        for (path, given) in &section.trees {
            let Some((key, at)) = node.get("trees").and_then(|trees| trees.entry(path)) else { continue };
            if !path.starts_with('/') {
                let help = Some(format!("write /{}", path.escape_debug()));
                self.diagnostics.add(
                    Severity::Error,
                    self.source,
                    &key.span,
                    "the path is not absolute",
                    help,
                );
                continue;
            }
            let Some(part) = self.tree(&format!("the host at {path}"), given, at) else { continue };
            match Tree::planted(whole.as_deref(), path.as_bytes(), &part, "the host") {
                Ok(tree) => whole = Some(Arc::new(tree)),
                Err(error) => {
                    self.diagnostics.add(Severity::Error, self.source, &key.span, error.to_string(), None)
                }
            }
        }
        whole
    }

    fn whole_host(&mut self, given: &TreeSource, node: &Node) -> Option<Arc<Tree>> {
        let TreeSource::Named(path) = given else { return self.tree("the host", given, node) };
        let (_, gathered) = self.gathered(path, &Choice::default(), node)?;
        if let Some((message, help)) = disk::part_of_host(path, gathered.top.as_deref()) {
            self.diagnostics.add(Severity::Warning, self.source, &node.span, message, Some(help));
        }
        Some(gathered.tree)
    }

    /// The table of mounts at `path`.
    fn mounts(&mut self, path: &str, at: &Node) -> Option<HostMounts> {
        match self.mount_table(path) {
            Ok((shown, lines)) => Some(disk::mounts(&shown, &lines)),
            Err(error) => {
                disk::diagnostic(&error, (self.source, &at.span), self.diagnostics);
                None
            }
        }
    }

    /// The host; `node` is its section.
    pub(super) fn host(&mut self, section: &HostSection, node: Option<&Node>) -> Host {
        let Some(node) = node else {
            return Host::default();
        };
        let tree = self.host_tree(section, node);
        let mut settings = Settings::default();
        for (key, value) in &section.sysctls {
            match key.as_str() {
                "fs.protected_symlinks" => settings.protected_symlinks = Some(*value),
                "fs.protected_regular" => settings.protected_regular = Some(*value),
                "fs.protected_fifos" => settings.protected_fifos = Some(*value),
                "fs.protected_hardlinks" => settings.protected_hardlinks = Some(*value),
                _ => {
                    let span = &node
                        .find("sysctls")
                        .and_then(|sysctls| sysctls.entry(key))
                        .map_or(node, |(key, _)| key)
                        .span;
                    let message = format!("`{}` decides nothing here, so it is ignored", key.escape_debug());
                    let help = Some(
                        "fs.protected_symlinks, fs.protected_hardlinks, fs.protected_regular and fs.protected_fifos do"
                            .to_owned(),
                    );
                    self.diagnostics.add(Severity::Warning, self.source, span, message, help);
                }
            }
        }
        let user_namespace = section.user_namespace.as_ref().map(|maps| {
            let at = node.get("user-namespace").unwrap_or(node);
            let (uids, gids) = self.id_maps(&maps.uids, &maps.gids, at);
            Fact::new(
                Arc::new(UserNamespace { uids, gids }),
                self.source.place(&at.span, "host.user-namespace"),
            )
        });
        let mounts =
            section.mounts.as_deref().zip(node.get("mounts")).and_then(|(path, at)| self.mounts(path, at));
        let accounts = section.accounts.as_ref().zip(node.get("accounts"));
        let accounts = accounts.and_then(|(given, at)| self.accounts("the host", Some(given), at));
        let (started_by, remapped_to, subordinate) = self.started_by(section, node);
        let selinux = self.selinux(section.selinux.as_ref(), node);
        Host {
            selinux,
            apparmor: section.apparmor.map(|word| word.is_enabled(self.files)),
            tree,
            mounts,
            accounts,
            settings,
            user_namespace,
            remapped_to,
            started_by,
            subordinate,
        }
    }
}

/// What a mount option is meant to be that is known in lower case, or misspells a flag: mount(2) refuses it.
fn slip(option: &str, personality: Option<&Personality>) -> Option<String> {
    let lower = option.to_lowercase();
    let flag = |word: &str| MountFlags::by_word(word).is_some() || HARMLESS.contains(&word);
    let taken = |word: &str| personality.is_some_and(|one| one.clone().option(word).is_ok());
    if lower != option && (flag(&lower) || taken(&lower)) {
        return Some(lower);
    }
    nearest(option, ["noexec", "nosuid", "nodev", "nosymfollow", "exec", "suid"]).map(ToOwned::to_owned)
}
