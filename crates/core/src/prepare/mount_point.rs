//! Finding and making mount points inside a root (facts/kubelet.md section 9).

use std::sync::Arc;

use crate::caps::CapabilitySet;
use crate::fact::{Provenance, Unknown};
use crate::identity::Credentials;
use crate::ids::{KernelGid, KernelUid, UserNamespace};
use crate::mode::{FileKind, Mode};
use crate::mount::{MountFlags, MountTable};
use crate::stage::Stage;
use crate::trace::Step;
use crate::tree::{Certainty, Doubt, Entry};
use crate::view::{Place, View};
use crate::walk::{Arrival, Follow, Last, Target, Walker};
use crate::witness::{Question, Witness};

/// Answers as whoever prepares the stage: what is not listed is missing, and root may pass.
#[derive(Debug)]
pub(crate) struct Maker;

impl Witness for Maker {
    const TRACING: bool = false;

    fn step(&mut self, _: impl FnOnce() -> Step) {}

    fn assume(&mut self, _: &Arc<str>) {}

    fn choose(&mut self, question: Question, _: &Unknown, _: usize, _: impl Fn(usize) -> String) -> usize {
        usize::from(matches!(question, Question::Exists(_)))
    }
}

/// Root on the host with every capability.
pub(crate) fn root_credentials() -> Credentials {
    Credentials {
        fsuid: KernelUid::new(0),
        fsgid: KernelGid::new(0),
        groups: Vec::new(),
        effective: CapabilitySet::ALL,
        umask: Mode::new(0o022),
        no_new_privileges: false,
        namespace: Arc::new(UserNamespace::initial()),
    }
}

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
    let parts: Vec<&[u8]> = path.split(|byte| *byte == b'/').filter(|part| !part.is_empty()).collect();
    let mut place = None;
    for end in 0..=parts.len() {
        let mut prefix = b"/".to_vec();
        prefix.extend_from_slice(&parts[..end].join(&b'/'));
        let made = if end == parts.len() { kind } else { FileKind::Directory };
        let arrival = arrive(stage, table, &prefix)?;
        place = Some(match arrival {
            Reached::There(place) => place,
            Reached::Missing(directory, name) => {
                make(stage, table, directory, &name, made, modes)?;
                match arrive(stage, table, &prefix)? {
                    Reached::There(place) => place,
                    Reached::Missing(..) => {
                        return Err(format!("{} cannot be made", crate::act::quoted(&prefix)));
                    }
                }
            }
        });
    }
    place.ok_or_else(|| "the path is empty".to_owned())
}

enum Reached {
    There(Place),
    Missing(Place, Vec<u8>),
}

fn arrive(stage: &Stage, table: &MountTable, path: &[u8]) -> Result<Reached, String> {
    let credentials = root_credentials();
    let view = View::new(stage, table, &credentials, "the runtime");
    let mut maker = Maker;
    let walked = Walker::new(&view, &mut maker).arrive(path, Follow::Links);
    match walked {
        Ok(Arrival { target: Target::There(place), .. }) => Ok(Reached::There(place)),
        Ok(Arrival { directory, last: Last::Name(name, _), .. }) => {
            Ok(Reached::Missing(directory, name.to_vec()))
        }
        Ok(_) => Err("the path ends in `.` or `..`".to_owned()),
        Err(errno) => Err(format!("{errno} ({})", errno.meaning())),
    }
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
