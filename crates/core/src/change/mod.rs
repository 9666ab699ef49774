//! One thing that is different: what a platform engineer would change, as a sentence.
//!
//! A change of a description or of accounts is made before anything is prepared, a change of files on the prepared
//! stage, by an administrator whom nothing stops but the kernel's own limits. A change by `host` is made on the host's
//! tree before it is mounted anywhere.

mod account;
mod administer;
mod ahead;
mod capabilities;
mod group_step;
mod label;
mod numbers;
mod owner_options;
mod parse;
mod pattern;
mod process;
mod remount;
mod security;
mod volume_mode;

use std::fmt;
use std::sync::Arc;

use mivask_model::glob::Globs;
use mivask_model::glob::NoGlobs;

pub use group_step::GroupStep;
pub use label::with_level;
pub use numbers::{NumberHint, free_id, hints};
pub use parse::{Sentence, parse_change, parse_sentence};
pub use process::{below, scratch_name, user_text};
pub use security::Security;
pub(crate) use security::labelled;
pub use volume_mode::mode_option;

use mivask_model::act::{Act, Subject, quoted};
use mivask_model::mode::Mode;
use mivask_stage::prepare::HOST;
use mivask_stage::scene::{Scene, Workload};
use mivask_stage::stage::Stage;

/// One change.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Change {
    /// Files: `for gauge sets-mode g+w on /data`, an act that an administrator carries out where the actor sees the path,
    /// or an act of `host`. The path may be a pattern.
    Files(Act),
    /// The image of one actor, as its build leaves it: `image gauge sets-owner 7101 on /cache`. Volumes that are filled
    /// from the image have it too.
    Image(Act),
    /// The process of one actor.
    Process(String, Process),
    /// The filesystem group of every pod, `pod filesystem-group 7400`.
    FilesystemGroup(GroupStep),
    /// A supplementary group of every pod, `pod joins 7400`.
    Joins(u32),
    /// SELinux on the host, `host sets-boolean NAME on`, `host labels PATH as TYPE`.
    Security(Security),
    /// The accounts of one actor's image, or with `host` of every image and the host, as far as they know the names.
    Accounts(String, Accounts),
}

/// What is different about a process or its mounts.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Process {
    /// `becomes U[:G]`: inside ids; without G the group stays as it is given.
    Becomes(u32, Option<u32>),
    /// `umask M`
    Umask(Mode),
    /// `drops NAME[,NAME]`: capabilities, or `ALL`.
    Drops(Vec<String>),
    /// `adds NAME[,NAME]`: capabilities.
    Adds(Vec<String>),
    /// `joins GID`: a supplementary group; in a pod every container joins.
    Joins(u32),
    /// `filesystem-group GID`: that of its pod, or its own where it is in none.
    FilesystemGroup(GroupStep),
    /// `user-namespace MODE`: as `--userns` and `userns_mode` name it, such as `keep-id:uid=7101`.
    UserNamespace(String),
    /// `level LEVEL`: the level of its security label, such as `s0:c12,c40`, in place of one that the engine draws.
    Level(String),
    /// `mounts scratch at PATH`: a new, empty volume that lives as long as the pod or container.
    Scratch(Vec<u8>),
    /// `mounts only PATH`: of the volume that is mounted above PATH, only that part, at PATH (`subPath` of the
    /// Kubernetes API, `volume.subpath` of the Compose specification).
    Only(Vec<u8>),
    /// `starts again`: a new process with the accounts as they are now; in a rehearsal.
    StartsAgain,
    /// `is made again`: a new container with the image's files; volumes stay as they are. In a rehearsal.
    IsMadeAgain,
    /// `mounts PATH with OPTION[,OPTION]`: `ro`, `rw`, `noexec`, `exec`, `nosuid`, `suid`, `nodev`, `dev`; `mode=MODE` for the
    /// files of a volume made of API objects (`defaultMode`), or the root of a tmpfs; `uid=UID`, `gid=GID`, `umask=MASK` of a
    /// volume whose file system keeps no owners.
    Mounts(Vec<u8>, Vec<String>),
}

/// What is different about accounts.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Accounts {
    /// `joins USER to GROUP`
    Joins(String, String),
    /// `parts USER from GROUP`
    Parts(String, String),
    /// `sets-primary-group GROUP of USER`
    PrimaryGroup(String, String),
    /// `adds group NAME as GID`
    Adds(String, u32),
    /// `adds group NAME`, `adds system group NAME`: the number that the tools pick.
    AddsNext(String, bool),
    /// `sets-groups GROUP[,GROUP] of USER`: these memberships and no others.
    OnlyGroups(String, String),
    /// `adds user NAME [as UID[:GROUP]]`: with a group of its own where none is named, and the next number where none is.
    AddsUser(String, Option<(u32, Option<String>)>),
    /// `renames user NAME to NEW`
    RenamesUser(String, String),
    /// `renumbers user NAME to UID`; files outside its home keep the old number.
    RenumbersUser(String, u32),
    /// `removes user NAME`; files keep its number.
    RemovesUser(String),
    /// `renames group NAME to NEW`
    Renames(String, String),
    /// `renumbers group NAME to GID`; files keep the old number.
    Renumbers(String, u32),
    /// `removes group NAME`; files keep its number.
    Removes(String),
}

impl fmt::Display for Change {
    /// A sentence that reads back as the same change.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = |name: &str| quoted(name.as_bytes());
        match self {
            Self::Files(act) if Subject::named(&act.actor).actor == HOST => act.fmt(f),
            Self::Files(act) => write!(f, "for {act}"),
            Self::Image(act) => write!(f, "image {act}"),
            Self::Process(actor, what) => write!(f, "{} {what}", name(actor)),
            Self::FilesystemGroup(step) => write!(f, "pod filesystem-group {step}"),
            Self::Joins(gid) => write!(f, "pod joins {gid}"),
            Self::Accounts(whose, what) => write!(f, "{} {what}", name(whose)),
            Self::Security(what) => write!(f, "{HOST} {what}"),
        }
    }
}

impl fmt::Display for Process {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let list = |names: &[String]| quoted(names.join(",").as_bytes());
        match self {
            Self::Becomes(uid, None) => write!(f, "becomes {uid}"),
            Self::Becomes(uid, Some(gid)) => write!(f, "becomes {uid}:{gid}"),
            Self::Umask(mask) => write!(f, "umask {mask}"),
            Self::Drops(names) => write!(f, "drops {}", list(names)),
            Self::Adds(names) => write!(f, "adds {}", list(names)),
            Self::Joins(gid) => write!(f, "joins {gid}"),
            Self::FilesystemGroup(step) => write!(f, "filesystem-group {step}"),
            Self::UserNamespace(mode) => write!(f, "user-namespace {}", quoted(mode.as_bytes())),
            Self::Level(level) => write!(f, "level {}", quoted(level.as_bytes())),
            Self::StartsAgain => f.write_str("starts again"),
            Self::IsMadeAgain => f.write_str("is made again"),
            Self::Scratch(at) => write!(f, "mounts scratch at {}", quoted(at)),
            Self::Only(part) => write!(f, "mounts only {}", quoted(part)),
            Self::Mounts(at, options) => write!(f, "mounts {} with {}", quoted(at), list(options)),
        }
    }
}

impl fmt::Display for Accounts {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = |name: &str| quoted(name.as_bytes());
        match self {
            Self::Joins(user, group) => write!(f, "joins {} to {}", name(user), name(group)),
            Self::Parts(user, group) => write!(f, "parts {} from {}", name(user), name(group)),
            Self::PrimaryGroup(group, user) => {
                write!(f, "sets-primary-group {} of {}", name(group), name(user))
            }
            Self::Adds(group, gid) => write!(f, "adds group {} as {gid}", name(group)),
            Self::AddsNext(group, false) => write!(f, "adds group {}", name(group)),
            Self::AddsNext(group, true) => write!(f, "adds system group {}", name(group)),
            Self::OnlyGroups(groups, user) => write!(f, "sets-groups {} of {}", name(groups), name(user)),
            Self::AddsUser(user, None) => write!(f, "adds user {}", name(user)),
            Self::AddsUser(user, Some((uid, None))) => write!(f, "adds user {} as {uid}", name(user)),
            Self::AddsUser(user, Some((uid, Some(group)))) => {
                write!(f, "adds user {} as {uid}:{}", name(user), quoted(group.as_bytes()))
            }
            Self::RenamesUser(user, new) => write!(f, "renames user {} to {}", name(user), name(new)),
            Self::RenumbersUser(user, uid) => write!(f, "renumbers user {} to {uid}", name(user)),
            Self::RemovesUser(user) => write!(f, "removes user {}", name(user)),
            Self::Renames(group, new) => write!(f, "renames group {} to {}", name(group), name(new)),
            Self::Renumbers(group, gid) => write!(f, "renumbers group {} to {gid}", name(group)),
            Self::Removes(group) => write!(f, "removes group {}", name(group)),
        }
    }
}

/// Why a change cannot be made.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("`{change}` cannot be made: {reason}")]
#[non_exhaustive]
pub struct ChangeError {
    /// The change as a sentence.
    pub change: String,
    /// Why not.
    pub reason: String,
}

impl ChangeError {
    pub(crate) fn new(change: &Change, reason: impl Into<String>) -> Self {
        Self { change: change.to_string(), reason: reason.into() }
    }
}

/// Several changes, in order.
#[derive(Clone, Debug)]
pub struct Changes {
    all: Vec<Change>,
    globs: Arc<dyn Globs>,
}

impl Changes {
    /// These changes, of which none has a pattern.
    #[must_use]
    pub fn new(all: Vec<Change>) -> Self {
        Self::with_globs(all, Arc::new(NoGlobs))
    }

    /// These changes, with patterns as `globs` reads them.
    #[must_use]
    pub fn with_globs(all: Vec<Change>, globs: Arc<dyn Globs>) -> Self {
        Self { all, globs }
    }

    /// These changes with another way of reading patterns.
    #[must_use]
    pub fn with(self, globs: Arc<dyn Globs>) -> Self {
        Self { globs, ..self }
    }

    /// These changes and then `more`.
    #[must_use]
    pub fn and(&self, more: impl IntoIterator<Item = Change>) -> Self {
        let all = self.all.iter().cloned().chain(more).collect();
        Self { all, globs: self.globs.clone() }
    }

    /// How their patterns are read.
    #[must_use]
    pub fn globs(&self) -> Arc<dyn Globs> {
        self.globs.clone()
    }

    /// Whether nothing changes.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// Each change.
    pub fn iter(&self) -> impl Iterator<Item = &Change> {
        self.all.iter()
    }

    /// The actor each change names, where it names one: a container, or `workload/container`.
    pub fn actors(&self) -> impl Iterator<Item = (&Change, &str)> {
        self.all.iter().filter_map(|change| {
            let name = match change {
                Change::Files(act) | Change::Image(act) => act.actor.as_str(),
                Change::Process(actor, _) | Change::Accounts(actor, _) => actor.as_str(),
                Change::FilesystemGroup(_) | Change::Joins(_) | Change::Security(_) => return None,
            };
            // The host is no actor, so nobody has to be called that.
            (Subject::named(name).actor != HOST).then_some((change, name))
        })
    }

    /// Makes those that concern accounts and the host's files. `workloads` are all of the scene, for the images of
    /// actors. What is worth knowing comes back as sentences.
    ///
    /// # Errors
    /// The first change that cannot be made.
    pub fn apply_to_surroundings(
        &self,
        scene: &mut Scene,
        workloads: &[Arc<Workload>],
    ) -> Result<Vec<String>, ChangeError> {
        let mut notes = Vec::new();
        for change in &self.all {
            match change {
                Change::Accounts(whose, what) => {
                    account::change(scene, workloads, whose, what, &mut notes)
                        .map_err(|reason| ChangeError::new(change, reason))?;
                }
                Change::Image(act) => {
                    ahead::image(scene, workloads, act, &*self.globs)
                        .map_err(|reason| ChangeError::new(change, reason))?;
                }
                Change::Files(act) if act.actor == HOST => {
                    ahead::on_host(scene, act, &*self.globs)
                        .map_err(|reason| ChangeError::new(change, reason))?;
                }
                Change::FilesystemGroup(GroupStep::Group(gid)) | Change::Joins(gid) => {
                    notes.extend(hints(scene, *gid, None).into_iter().map(|hint| hint.to_string()));
                }
                Change::Process(name, _) if name == HOST => {
                    let reason = "the host is root itself, for setting things up: it is not described and has no other identity";
                    return Err(ChangeError::new(change, reason.to_owned()));
                }
                Change::Process(name, Process::Mounts(at, options))
                    if options.iter().any(|option| owner_options::is_one(option)) =>
                {
                    owner_options::set(scene, workloads, (name, at), options)
                        .map_err(|reason| ChangeError::new(change, reason))?;
                }
                Change::Security(what) => {
                    what.apply(scene).map_err(|reason| ChangeError::new(change, reason))?;
                }
                Change::Files(_) | Change::Process(..) | Change::FilesystemGroup(_) => {}
            }
        }
        Ok(notes)
    }

    /// Makes those that concern the description of `workload`.
    ///
    /// # Errors
    /// The first change that cannot be made.
    pub fn apply_to_workload(&self, workload: &mut Arc<Workload>) -> Result<Vec<String>, ChangeError> {
        let mut notes = Vec::new();
        if !self.concerns(workload) {
            return Ok(notes);
        }
        let workload = Arc::make_mut(workload);
        for change in &self.all {
            process::change(workload, change, &mut notes)
                .map_err(|reason| ChangeError::new(change, reason))?;
        }
        Ok(notes)
    }

    fn concerns(&self, workload: &Workload) -> bool {
        self.all.iter().any(|change| match change {
            Change::FilesystemGroup(_) | Change::Joins(_) => true,
            Change::Process(name, _) => {
                workload.containers.iter().any(|container| means(name, &workload.name, &container.name))
            }
            Change::Files(_) | Change::Image(_) | Change::Accounts(..) | Change::Security(_) => false,
        })
    }

    /// Makes those that concern files as an actor on `stage` sees them, and says which acts that took: one for each path of
    /// a pattern.
    ///
    /// # Errors
    /// The first change that cannot be made.
    pub fn apply_to_files(&self, stage: &mut Stage) -> Result<Vec<Act>, ChangeError> {
        let mut made = Vec::new();
        for change in &self.all {
            let Change::Files(act) = change else { continue };
            // The host's files were changed before anything was prepared.
            if act.actor == HOST {
                continue;
            }
            made.extend(
                administer::administer(stage, act, &*self.globs)
                    .map_err(|reason| ChangeError::new(change, reason))?,
            );
        }
        Ok(made)
    }

    /// The scene with all that concerns accounts, the host's files and the descriptions.
    ///
    /// # Errors
    /// The first change that cannot be made.
    pub fn apply_to_scene(&self, scene: &mut Scene) -> Result<Vec<String>, ChangeError> {
        // Surroundings and workloads of one scene are changed side by side, which takes them apart for a moment.
        let mut workloads = std::mem::take(&mut scene.workloads);
        let made = self.apply_to_surroundings(scene, &workloads).and_then(|mut notes| {
            for workload in &mut workloads {
                notes.extend(self.apply_to_workload(workload)?);
            }
            Ok(notes)
        });
        scene.workloads = workloads;
        made
    }
}

/// Whether `name` means that container of `workload`.
fn means(name: &str, workload: &str, container: &str) -> bool {
    name == container
        || name.split_once('/').is_some_and(|(left, right)| left == workload && right == container)
}
