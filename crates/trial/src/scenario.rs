//! A small scene with one actor, in parts that can be left out one by one.

mod acts;
mod forget;
mod generate;
mod write;

use mivask_core::act::Act;
use mivask_core::ids::DiskOwner;
use mivask_core::prepare;
use mivask_core::scene::Scene;
use mivask_core::stage::Stage;
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{Disk, Origin};
use mivask_read::scene_file::read_scene;
use mivask_read::text::SourceText;
use mivask_read::yaml;

pub use acts::random_act;
pub use generate::{CAPABILITIES, generate};

use crate::TrialError;

/// What a scenario's sources are on.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Kind {
    /// tmpfs
    Tmpfs,
    /// ext4, sometimes mounted with `grpid`
    Ext4,
    /// xfs, sometimes mounted with `grpid`
    Xfs,
    /// btrfs
    Btrfs,
    /// overlay, its layers on tmpfs
    Overlay,
    /// erofs
    Erofs,
    /// squashfs
    Squashfs,
}

impl Kind {
    /// Every kind.
    pub const ALL: [Self; 7] =
        [Self::Tmpfs, Self::Ext4, Self::Xfs, Self::Btrfs, Self::Overlay, Self::Erofs, Self::Squashfs];

    /// Every kind, those where more can happen several times: image file systems only ever refuse changes.
    pub const WEIGHTED: [Self; 14] = [
        Self::Tmpfs,
        Self::Ext4,
        Self::Overlay,
        Self::Xfs,
        Self::Btrfs,
        Self::Tmpfs,
        Self::Erofs,
        Self::Ext4,
        Self::Overlay,
        Self::Xfs,
        Self::Btrfs,
        Self::Tmpfs,
        Self::Squashfs,
        Self::Overlay,
    ];

    /// The filesystem's name.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Tmpfs => "tmpfs",
            Self::Ext4 => "ext4",
            Self::Xfs => "xfs",
            Self::Btrfs => "btrfs",
            Self::Overlay => "overlay",
            Self::Erofs => "erofs",
            Self::Squashfs => "squashfs",
        }
    }

    /// The kind of that name.
    #[must_use]
    pub fn by_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }

    /// Whether it is read-only and packed from a folder.
    pub(crate) const fn is_image(self) -> bool {
        matches!(self, Self::Erofs | Self::Squashfs)
    }
}

/// One inode of a scenario.
#[derive(Clone, Debug)]
pub(crate) struct EntryPart {
    pub path: String,
    pub kind: &'static str,
    /// As it is stored; `None` where it is not given.
    pub owner: Option<DiskOwner>,
    pub mode: Option<u16>,
    /// Further facts as the scene file writes them: key and value.
    pub facts: Vec<(&'static str, String)>,
}

/// One volume.
#[derive(Clone, Debug)]
pub(crate) struct VolumePart {
    pub name: &'static str,
    pub kind: Kind,
    pub options: Vec<&'static str>,
    pub read_only: bool,
    /// Whether the scene gives its tree.
    pub listed: bool,
    pub entries: Vec<EntryPart>,
}

/// One mount.
#[derive(Clone, Debug)]
pub(crate) struct MountPart {
    pub volume: &'static str,
    pub at: String,
    pub options: Vec<&'static str>,
    pub sub_path: Option<String>,
    pub id_map: Option<&'static Maps>,
}

/// The lines of two id maps.
#[derive(Debug)]
pub(crate) struct Maps {
    pub uids: &'static [&'static str],
    pub gids: &'static [&'static str],
}

/// The one actor.
#[derive(Clone, Debug)]
pub(crate) struct ActorPart {
    /// Inside ids.
    pub uid: u32,
    pub gid: u32,
    pub groups: Vec<u32>,
    pub umask: &'static str,
    pub no_new_privileges: bool,
    pub effective: Option<Vec<&'static str>>,
    /// Added to an empty bounding set; the runtime's defaults where none.
    pub bounding: Option<Vec<&'static str>>,
    pub namespace: Option<&'static Maps>,
}

/// A scene in parts.
#[derive(Clone, Debug)]
pub struct Scenario {
    pub(crate) volumes: Vec<VolumePart>,
    pub(crate) mounts: Vec<MountPart>,
    pub(crate) actor: ActorPart,
    /// Paths worth trying, and whether each is a directory.
    pub(crate) paths: Vec<(String, bool)>,
    /// Kernel settings that the scene does not give.
    pub(crate) hidden: Vec<Setting>,
}

/// A kernel setting that decides about files.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Setting {
    Symlinks,
    Hardlinks,
    Regular,
    Fifos,
}

impl Scenario {
    /// The scenario on a host whose kernel settings are this machine's.
    ///
    /// # Errors
    /// It cannot be read back, which would be a mistake in this crate.
    pub fn stage(&self) -> Result<Stage, TrialError> {
        self.scene().map(|scene| prepare::stage(&scene))
    }

    /// The stage of the same scene with a second actor, `z`, who has user and group 8900 and the same mounts; and that scene.
    ///
    /// # Errors
    /// As for [`Self::stage`].
    pub fn with_another(&self) -> Result<(Stage, String), TrialError> {
        let mut two = self.to_string();
        let (_, containers) = two.split_once("containers:\n").unwrap_or_default();
        let mounts =
            containers.split_once("    mounts:").map(|(_, mounts)| mounts.to_owned()).unwrap_or_default();
        two.push_str(&format!("  - name: z\n    user: '8900:8900'\n    mounts:{mounts}"));
        let scene = self.read(&two)?;
        Ok((prepare::stage(&scene), two))
    }

    /// The same before it is prepared.
    ///
    /// # Errors
    /// As for [`Self::stage`].
    pub fn scene(&self) -> Result<Scene, TrialError> {
        self.read(&self.to_string())
    }

    fn read(&self, text: &str) -> Result<Scene, TrialError> {
        let source = SourceText::new("scenario.yaml", text);
        let mut diagnostics = Diagnostics::default();
        let nodes = yaml::parse(&source, &mut diagnostics);
        let scene = nodes
            .first()
            .and_then(|node| read_scene(node, &source, &Origin::Standard, &Disk, &mut diagnostics));
        let messages: Vec<&str> = diagnostics.iter().map(|diagnostic| diagnostic.message.as_str()).collect();
        let mut scene = match scene {
            Some(scene) if messages.is_empty() => scene,
            Some(_) | None => return Err(TrialError::Scenario(format!("{}\n{text}", messages.join("; ")))),
        };
        scene.host.settings = mivask_kernel::settings();
        for hidden in &self.hidden {
            let settings = &mut scene.host.settings;
            match hidden {
                Setting::Symlinks => settings.protected_symlinks = None,
                Setting::Hardlinks => settings.protected_hardlinks = None,
                Setting::Regular => settings.protected_regular = None,
                Setting::Fifos => settings.protected_fifos = None,
            }
        }
        Ok(scene)
    }

    /// The same with the mode of every inode changed; the first argument says whether it is a directory.
    #[must_use]
    pub fn with_modes(mut self, change: impl Fn(bool, u16) -> u16) -> Self {
        for entry in self.volumes.iter_mut().flat_map(|volume| &mut volume.entries) {
            entry.mode = entry.mode.map(|mode| change(entry.kind == "dir", mode));
        }
        self
    }

    /// The same without the fact `key` of any inode, such as `acl`.
    #[must_use]
    pub fn without(mut self, key: &str) -> Self {
        for entry in self.volumes.iter_mut().flat_map(|volume| &mut volume.entries) {
            entry.facts.retain(|(known, _)| *known != key);
        }
        self
    }

    /// The same with exactly these capabilities in force; all of them where `None`.
    #[must_use]
    pub fn with_capabilities(mut self, effective: Option<Vec<&'static str>>) -> Self {
        self.actor.effective = effective;
        self
    }

    /// The same with this umask.
    #[must_use]
    pub fn with_umask(mut self, umask: &'static str) -> Self {
        self.actor.umask = umask;
        self
    }

    /// The same with every mount read-only.
    #[must_use]
    pub fn read_only(mut self) -> Self {
        for mount in self.mounts.iter_mut().filter(|mount| !mount.options.contains(&"ro")) {
            mount.options.push("ro");
        }
        self
    }

    /// Whether neither the actor nor a mount maps ids.
    #[must_use]
    pub fn maps_nothing(&self) -> bool {
        self.actor.namespace.is_none() && self.mounts.iter().all(|mount| mount.id_map.is_none())
    }

    /// The scene file with what it shows as comments on top.
    #[must_use]
    pub fn with_comments(&self, act: &Act, comments: &[String]) -> String {
        let lines: String = comments.iter().map(|line| format!("# {line}\n")).collect();
        format!("# {act}\n{lines}{self}")
    }
}
