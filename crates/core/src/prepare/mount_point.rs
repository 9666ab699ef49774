//! Finding and making mount points inside a root (facts/kubelet.md section 9).

use std::sync::Arc;

use crate::act::quoted;
use crate::fact::Provenance;
use crate::mode::{FileKind, Mode};
use crate::mount::{MountFlags, MountTable};
use crate::onlooker::{Onlooker, root_credentials};
use crate::outcome::Errno;
use crate::stage::Stage;
use crate::tree::{Certainty, Doubt, Entry};
use crate::view::{Place, View};
use crate::walk::{Arrival, Follow, Last, Target, Walker};

/// The modes of what is made.
#[derive(Clone, Copy, Debug)]
pub(super) struct MakeMode {
    directory: u16,
    file: u16,
    rule: &'static str,
}

impl MakeMode {
    /// What runc makes for a missing mount point.
    pub(super) const RUNC: Self =
        Self { directory: 0o755, file: 0o755, rule: "the runtime makes a missing mount point 0:0 0755" };
    /// What the kubelet makes for a missing host path.
    pub(super) const HOST: Self = Self {
        directory: 0o755,
        file: 0o644,
        rule: "a missing host path is made 0:0, directories 0755, files 0644",
    };
}

/// The place at `path`, made as `kind` with its parents where it is missing.
///
/// # Errors
/// Why it cannot be made or walked to, in words.
pub(super) fn find_or_make(
    stage: &mut Stage,
    table: &MountTable,
    path: &[u8],
    kind: FileKind,
    modes: MakeMode,
) -> Result<Place, String> {
    let mut place = None;
    let ends = path.iter().enumerate().filter(|(_, byte)| **byte == b'/').map(|(at, _)| at);
    for end in ends.chain([path.len()]) {
        let last = end == path.len();
        let kind = if last { kind } else { FileKind::Directory };
        let prefix = if end == 0 { &b"/"[..] } else { &path[..end] };
        place = Some(step(stage, table, prefix, kind, modes, MOST_LINKS)?);
    }
    place.ok_or_else(|| "the path is empty".to_owned())
}

/// Dangling links that are followed one after the other.
const MOST_LINKS: usize = 40;

/// The place at `path`, whose parent is there; a dangling link lands on its target, made with its parents.
fn step(
    stage: &mut Stage,
    table: &MountTable,
    path: &[u8],
    kind: FileKind,
    modes: MakeMode,
    links: usize,
) -> Result<Place, String> {
    match arrive(stage, table, path)? {
        Reached::There(place) => return Ok(place),
        Reached::Missing(directory, name) => make(stage, table, directory, &name, kind, modes)?,
        Reached::Dangling(target) if links > 0 => {
            let parents = target.iter().enumerate().skip(1).filter(|(_, byte)| **byte == b'/');
            for (end, _) in parents {
                step(stage, table, &target[..end], FileKind::Directory, modes, links - 1)?;
            }
            return step(stage, table, &target, kind, modes, links - 1);
        }
        Reached::Dangling(_) => return Err("too many links that point at nothing".to_owned()),
    }
    match arrive(stage, table, path)? {
        Reached::There(place) => Ok(place),
        Reached::Missing(..) | Reached::Dangling(_) => Err(format!("{} cannot be made", quoted(path))),
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
    let view = View::new(stage, table, &credentials, "the runtime");
    let mut onlooker = Onlooker::default();
    let walked = Walker::new(&view, &mut onlooker).arrive(path, Follow::Links);
    match walked {
        Ok(Arrival { target: Target::There(place), .. }) => Ok(Reached::There(place)),
        Ok(Arrival { directory, last: Last::Name(name, _), .. }) => {
            Ok(Reached::Missing(directory, name.to_vec()))
        }
        Ok(_) => Err("the path ends in `.` or `..`".to_owned()),
        Err(errno) => match dangling(&view, path).filter(|_| errno == Errno::ENOENT) {
            Some(target) => Ok(Reached::Dangling(target)),
            None => Err(format!("{errno} ({})", errno.meaning())),
        },
    }
}

/// The absolute path that the link at `path` points at; `None` where there is no link.
fn dangling(view: &View<'_>, path: &[u8]) -> Option<Vec<u8>> {
    let mut onlooker = Onlooker::default();
    let arrival = Walker::new(view, &mut onlooker).arrive(path, Follow::AllButLast).ok()?;
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
    directory: Place,
    name: &[u8],
    kind: FileKind,
    modes: MakeMode,
) -> Result<(), String> {
    let mount = table.get(directory.mount);
    let dir = directory.inode.ok_or("the directory above it is not known")?;
    if mount.flags.has(MountFlags::READ_ONLY) && mount.on.is_some() {
        return Err("the mount point is missing and the volume around it is mounted read-only".to_owned());
    }
    let sources: Vec<_> = mount.variants.iter().map(|variant| variant.source).collect();
    for id in sources {
        let source = stage.source_mut(id);
        let parent = *source.tree.inode(dir);
        let setgid = parent.mode.has(Mode::SET_GROUP_ID);
        let group = if setgid { parent.gid.raw() } else { 0 };
        let bits = match (kind, setgid) {
            (FileKind::Directory, true) => modes.directory | 0o2000,
            (FileKind::Directory, false) => modes.directory,
            _ => modes.file,
        };
        let mut entry = Entry::new(kind, 0, group, Mode::new(bits)).at(Provenance::rule(modes.rule));
        if let Some(Certainty::Unknown(unknown)) = source.tree.doubt(dir).map(|doubt| doubt.contents.clone())
        {
            let text = format!(
                "the directories above mount points in {} let everyone pass (0:0 0755 where the runtime makes them)",
                source.name
            );
            let attributes = Certainty::Assumed(text.into());
            entry = entry.doubting(Doubt { attributes, contents: Certainty::Unknown(unknown) });
        }
        Arc::make_mut(&mut source.tree).add(dir, name, entry).map_err(|error| error.to_string())?;
    }
    Ok(())
}
