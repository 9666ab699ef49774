//! Finding and making mount points inside a root (docs/facts/kubelet.md section 9).

use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::fact::{Provenance, Unknown};
use mivask_model::ids::{DiskGid, DiskUid, KernelOwner, MountIds};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::{MountFlags, MountId, MountTable, Source};
use mivask_model::mount_kind::MountKind;
use mivask_model::outcome::Errno;
use mivask_model::personality::Entry as Making;
use mivask_model::tree::{Certainty, Doubt, Entry, InodeId};
use mivask_rules::lookup::{AllSeeing, root_credentials};
use mivask_rules::view::Devices;
use mivask_rules::view::{Place, View};
use mivask_rules::walk::{Arrival, Follow, Last, Target, Walker};

use crate::runtime::MountPointRules;
use crate::stage::Stage;

/// What is made, and by whom.
#[derive(Clone, Debug)]
pub(super) struct Maker {
    /// Mode of a directory, and of the parents of one; octal.
    pub directory: u16,
    /// Mode of a file; octal.
    pub file: u16,
    /// Mode of the directories above a file; octal.
    pub above_file: u16,
    /// Whether it is made even where the mount around it is read-only.
    pub in_read_only: bool,
    /// Whether that is so in a tmpfs.
    pub in_read_only_tmpfs: bool,
    /// Whether a link that points at nothing is followed.
    pub follows_dangling: bool,
    /// Whether what comes last may as well be a directory as a file.
    pub of_either_kind: bool,
    /// Who makes it.
    pub creator: KernelOwner,
    /// The ids of the user namespace whose root that is; those of the host's where it is the initial one.
    pub ids: MountIds,
    /// The owner of what comes last in the path, where that is not its creator.
    pub owner: Option<KernelOwner>,
    /// The same of what comes before.
    pub owner_above: Option<KernelOwner>,
    /// Said as the provenance of what is made.
    pub rule: &'static str,
}

impl Maker {
    /// The runtime, for missing mount points.
    pub(super) fn runtime(rules: &MountPointRules, creator: KernelOwner) -> Self {
        Self {
            directory: rules.directory,
            file: rules.file,
            above_file: rules.above_file,
            in_read_only: rules.in_read_only,
            follows_dangling: rules.follows_dangling,
            in_read_only_tmpfs: rules.in_read_only || rules.tmpfs_read_only_last,
            rule: rules.rule,
            ..Self::host(creator)
        }
    }

    /// A kubelet or a daemon, for missing host paths.
    pub(super) fn host(creator: KernelOwner) -> Self {
        let rule = "a missing host path is made by root, directories 0755, files 0644";
        Self {
            directory: 0o755,
            file: 0o644,
            above_file: 0o755,
            in_read_only: false,
            in_read_only_tmpfs: false,
            follows_dangling: true,
            of_either_kind: false,
            creator,
            ids: MountIds::default(),
            owner: None,
            owner_above: None,
            rule,
        }
    }
}

/// The place at `path`, made as `kind` with its parents where it is missing.
///
/// # Errors
/// Why it cannot be made or walked to.
pub(super) fn find_or_make(
    stage: &mut Stage,
    table: &MountTable,
    path: &[u8],
    kind: FileKind,
    maker: &Maker,
) -> Result<Made, CannotMake> {
    let mut place = None;
    let mut presumed = None;
    // Only what comes last has an owner of its own, and only directories above directories share its mode.
    let above = Maker {
        directory: if kind == FileKind::Directory { maker.directory } else { maker.above_file },
        owner: maker.owner_above,
        of_either_kind: false,
        ..maker.clone()
    };
    // The root is there.
    let ends = path.iter().enumerate().skip(1).filter(|(_, byte)| **byte == b'/').map(|(at, _)| at);
    for end in ends.chain([path.len()]) {
        let last = end == path.len();
        let kind = if last { kind } else { FileKind::Directory };
        let maker = if last { maker } else { &above };
        place = Some(step(stage, table, &path[..end], kind, maker, &mut presumed, MOST_LINKS)?);
    }
    let place = place.ok_or_else(|| "the path is empty".to_owned())?;
    Ok(Made { place, presumed })
}

/// A mount point.
pub(super) struct Made {
    /// Where it is.
    pub place: Place,
    /// Where it has to be already, and nobody listed what is there.
    pub presumed: Option<Presumed>,
}

/// A mount in which nothing can be made, so that it has to hold a mount point.
pub(super) struct Presumed {
    /// The mount.
    pub around: MountId,
    /// Whether that is since the kernel alone makes what is in it, not since it is read-only.
    pub kernel: bool,
    /// What the user can add to tell what it holds.
    pub settle: Arc<str>,
}

/// Why a mount point cannot be made.
#[derive(Debug, thiserror::Error)]
pub(super) enum CannotMake {
    /// It is missing in this mount.
    #[error("the mount point is missing and the volume around it is mounted read-only")]
    ReadOnly(MountId),
    /// Anything else.
    #[error("{0}")]
    Other(String),
}

impl From<String> for CannotMake {
    fn from(text: String) -> Self {
        Self::Other(text)
    }
}

/// Dangling links that are followed one after the other.
const MOST_LINKS: usize = 40;

/// The place at `path`, whose parent is there; a dangling link lands on its target, made with its parents.
fn step(
    stage: &mut Stage,
    table: &MountTable,
    path: &[u8],
    kind: FileKind,
    maker: &Maker,
    presumed: &mut Option<Presumed>,
    links: usize,
) -> Result<Place, CannotMake> {
    match arrive(stage, table, path)? {
        Reached::There(place) => return Ok(place),
        // Below something no one knows nothing can be made here, but it may well be there.
        Reached::Missing(directory, _) if directory.inode.is_none() => return Ok(directory),
        Reached::Missing(directory, name) => make(stage, table, (directory, &name, kind), maker, presumed)?,
        Reached::Dangling(_) if !maker.follows_dangling => {
            return Err(format!("{} is a link that points at nothing", quoted(path)).into());
        }
        Reached::Dangling(target) if links > 0 => {
            let parents = target.iter().enumerate().skip(1).filter(|(_, byte)| **byte == b'/');
            for (end, _) in parents {
                step(stage, table, &target[..end], FileKind::Directory, maker, presumed, links - 1)?;
            }
            return step(stage, table, &target, kind, maker, presumed, links - 1);
        }
        Reached::Dangling(_) => return Err("too many links that point at nothing".to_owned().into()),
    }
    match arrive(stage, table, path)? {
        Reached::There(place) => Ok(place),
        Reached::Missing(..) | Reached::Dangling(_) => Err(format!("{} cannot be made", quoted(path)).into()),
    }
}

enum Reached {
    There(Place),
    /// Nothing, but the directory is there.
    Missing(Place, Vec<u8>),
    /// A link to this absolute path, where not even the directory is.
    Dangling(Vec<u8>),
}

fn arrive(stage: &Stage, table: &MountTable, path: &[u8]) -> Result<Reached, String> {
    let credentials = root_credentials();
    let view = View::new(&stage.storage, table, &credentials, "the runtime", Devices::Listed);
    let mut all_seeing = AllSeeing::default();
    let walked = Walker::new(&view, &mut all_seeing).arrive(path, Follow::Links);
    match walked {
        Ok(Arrival { target: Target::There(place), .. }) => Ok(Reached::There(place)),
        Ok(Arrival { directory, last: Last::Name(name, _), .. }) => {
            Ok(Reached::Missing(directory, name.to_vec()))
        }
        Ok(_) => Err("the path ends in `.` or `..`".to_owned()),
        Err(errno) => match dangling(&view, path) {
            Some(target) if errno == Errno::ENOENT => Ok(Reached::Dangling(target)),
            Some(_) | None => Err(format!("{errno} ({})", errno.meaning())),
        },
    }
}

/// The absolute path that the link at `path` points at; `None` where there is no link.
fn dangling(view: &View<'_>, path: &[u8]) -> Option<Vec<u8>> {
    let mut all_seeing = AllSeeing::default();
    let arrival = Walker::new(view, &mut all_seeing).arrive(path, Follow::AllButLast).ok()?;
    let Target::There(place) = arrival.target else { return None };
    let target = view.source(place).tree.target(place.inode?)?;
    if target.first() == Some(&b'/') {
        return Some(target.to_vec());
    }
    let end = path.iter().rposition(|byte| *byte == b'/')?;
    Some([&path[..=end], target].concat())
}

fn make(
    stage: &mut Stage,
    table: &MountTable,
    (directory, name, kind): (Place, &[u8], FileKind),
    maker: &Maker,
    presumed: &mut Option<Presumed>,
) -> Result<(), CannotMake> {
    let mount = table.get(directory.mount);
    let dir = directory.inode.ok_or_else(|| "the directory above it is not known".to_owned())?;
    let tree = &stage.source(mount.variants[0].source).tree;
    let may_be_there = tree.doubt(dir).is_some_and(|doubt| doubt.contents != Certainty::Known);
    let despite =
        if mount.facts.kind == MountKind::Tmpfs { maker.in_read_only_tmpfs } else { maker.in_read_only };
    let read_only = mount.flags.has(MountFlags::READ_ONLY) && mount.on.is_some() && !despite;
    let facts = &stage.source(mount.variants[0].source).facts;
    let made = if kind == FileKind::File { Making::File } else { Making::Other };
    // Whether proc and its like have a name is the kernel's affair (`proc_root_operations` has no `mkdir`).
    let kernel = facts.personality.refuses(made).is_some();
    if kernel && !may_be_there {
        return Err(format!("nothing can be made in {}", facts.name).into());
    }
    // Where nobody listed the directory, the mount point is there if the container runs at all.
    if read_only && !may_be_there {
        return Err(CannotMake::ReadOnly(directory.mount));
    }
    if read_only || kernel {
        let contents = tree.doubt(dir).and_then(|doubt| doubt.contents.unknown());
        let settle =
            contents.map_or_else(|| "no scene can supply it".into(), |unknown| unknown.settle.clone());
        *presumed = Some(Presumed { around: directory.mount, kernel, settle });
    }
    if refused(stage, table, directory.mount, dir, maker) {
        return Err("EACCES (the namespace's root may not write there)".to_owned().into());
    }
    let owner = maker.owner.unwrap_or(maker.creator);
    // Whom the mount's map does not know it stores as root.
    let uid = mount.facts.ids.to_disk_uid(owner.uid).map_or(0, DiskUid::raw);
    let gid = mount.facts.ids.to_disk_gid(owner.gid).map_or(0, DiskGid::raw);
    let sources: Vec<_> = mount.variants.iter().map(|variant| variant.source).collect();
    for id in sources {
        let source = stage.storage.source_mut(id);
        let parent = *source.tree.inode(dir);
        let setgid = parent.stored_mode().has(Mode::SET_GROUP_ID);
        let group = if setgid && maker.owner.is_none() { parent.stored_owner().gid.raw() } else { gid };
        let bits = match (kind, setgid) {
            (FileKind::Directory, true) => maker.directory | 0o2000,
            (FileKind::Directory, false) => maker.directory,
            _ => maker.file,
        };
        let mut entry = Entry::new(kind, uid, group, Mode::new(bits)).at(Provenance::rule(maker.rule));
        let mut doubt = doubt_below(source, dir, kind, setgid);
        if maker.of_either_kind {
            let fact = format!("whether the mount point {} is a directory or a file", quoted(name));
            let unknown = Unknown::new(&fact, "tell what is mounted there");
            let unsure = Certainty::Unknown(unknown);
            let (mode, contents) = (unsure.clone(), unsure.clone());
            doubt = Doubt { owner: doubt.owner, mode, contents, kind: unsure, ..Doubt::default() };
        }
        entry = entry.doubting(doubt);
        Arc::make_mut(&mut source.tree).add(dir, name, entry).map_err(|error| error.to_string())?;
    }
    Ok(())
}

/// Whether the root of a user namespace may not make anything in `dir`: capabilities count where owner and group are mapped
/// (`capable_wrt_inode_uidgid`, fs/inode.c), the other bits everywhere.
fn refused(stage: &Stage, table: &MountTable, mount: MountId, dir: InodeId, maker: &Maker) -> bool {
    if maker.ids.uids.is_identity() {
        return false;
    }
    let mount = table.get(mount);
    let tree = &stage.source(mount.variants[0].source).tree;
    if tree.doubt(dir).is_some_and(|doubt| doubt.owner != Certainty::Known || doubt.mode != Certainty::Known)
    {
        return false;
    }
    let inode = tree.inode(dir);
    let owner = inode.stored_owner();
    let uid = mount.facts.ids.to_kernel_uid(owner.uid).and_then(|uid| maker.ids.to_disk_uid(uid));
    let gid = mount.facts.ids.to_kernel_gid(owner.gid).and_then(|gid| maker.ids.to_disk_gid(gid));
    (uid.is_none() || gid.is_none()) && !inode.stored_mode().has(Mode::new(0o003))
}

/// How sure what is made in `dir` can be: a mount point in a directory that nobody listed may have been there before.
fn doubt_below(source: &Source, dir: InodeId, kind: FileKind, setgid: bool) -> Doubt {
    let above = source.tree.doubt(dir).cloned().unwrap_or_default();
    match above.contents {
        Certainty::Unknown(unknown) => {
            let text = format!(
                "the directories above mount points in {} let everyone pass (0:0 0755 where the runtime makes them)",
                source.facts.name
            );
            Doubt::new(Certainty::Assumed(text.into()), Certainty::Unknown(unknown))
        }
        Certainty::Assumed(text) => Doubt::new(Certainty::Assumed(text.clone()), Certainty::Assumed(text)),
        Certainty::Known => {
            let unless =
                |certainty: Option<&Unknown>| certainty.cloned().map_or(Certainty::Known, Certainty::Unknown);
            // A set-group-id bit above decides about the group of what is made, and about its mode.
            let owner = unless(above.mode.unknown().or(if setgid { above.owner.unknown() } else { None }));
            let mode = unless(above.mode.unknown().filter(|_| kind == FileKind::Directory));
            Doubt { owner, mode, ..Doubt::default() }
        }
    }
}
