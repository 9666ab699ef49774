//! A running process: who it is, what is mounted where for it, and what is there, by `/proc/PID` (proc(5)).
//!
//! Only what is asked for is read: each directory on the way to a path that is wanted, whole, so that what is missing
//! in it is known to be missing. Links are followed as the process would follow them.

mod status;

use std::collections::BTreeSet;
use std::io;
use std::os::fd::OwnedFd;
use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::fact::{Provenance, Unknown};
use mivask_model::host_mounts::is_within;
use mivask_model::mode::FileKind;
use mivask_model::tree::{Certainty, Doubt, Entry, Tree};
use rustix::fs::{Mode as OpenMode, OFlags};

use crate::error::DiskError;
use crate::grow::Grower;
use crate::live::{self, join};
use crate::mounts::{self, MountLine};
use status::Status;

/// The most links on one way (`MAXSYMLINKS`).
const MOST_LINKS: usize = 40;

/// What is wanted of a process's files.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Reach {
    /// Absolute paths inside.
    pub paths: Vec<Vec<u8>>,
    /// Whether everything below them is wanted too.
    pub whole: bool,
}

/// What a process is and sees.
#[derive(Debug)]
pub struct Process {
    /// Its number, as this process sees it.
    pub pid: u32,
    /// Its name, as the kernel keeps it: at most 15 bytes.
    pub name: String,
    /// File system user and group id, in the ids of this process's user namespace.
    pub uid: u32,
    /// The group id.
    pub gid: u32,
    /// Supplementary groups.
    pub groups: Vec<u32>,
    /// Capabilities as bits: effective, permitted, bounding, inheritable, ambient.
    pub capabilities: [u64; 5],
    /// The umask, octal; `None` where the kernel does not tell it.
    pub umask: Option<u16>,
    /// Whether execve can no longer add privileges.
    pub no_new_privileges: bool,
    /// What the security module says it is (`/proc/PID/attr/current`): a label, or the name of a profile; `None` where there is
    /// none.
    pub security: Option<String>,
    /// Lines of its id maps: inside, outside, count.
    pub uid_map: Vec<(u32, u32, u32)>,
    /// The same for groups.
    pub gid_map: Vec<(u32, u32, u32)>,
    /// Whether it shares this process's mount namespace, as a container does not.
    pub same_mounts: bool,
    /// Its mounts, outer ones first, those that others hide left out.
    pub mounts: Vec<ProcessMount>,
}

/// One mount of a process.
#[derive(Debug)]
pub struct ProcessMount {
    /// Its line of mountinfo.
    pub line: MountLine,
    /// What is known of what is on it; `None` where nothing was read.
    pub tree: Option<Arc<Tree>>,
    /// The name in the tree that is mounted, where that is a single file.
    pub file: Option<Vec<u8>>,
}

/// Looks at process `pid`.
///
/// # Errors
/// There is none, or this process may not look at it.
pub fn look(pid: u32, reach: &Reach) -> Result<Process, DiskError> {
    let shown = format!("process:{pid}");
    let wrong = |what: String, help: &str| DiskError::whole(&shown, what).with_help(help);
    let read = |name: &str| std::fs::read(format!("/proc/{pid}/{name}"));
    let status = read("status").ok().and_then(|text| Status::read(&String::from_utf8_lossy(&text)));
    let status = status.ok_or_else(|| {
        wrong("there is no such process".to_owned(), "name a process of this machine by its number")
    })?;
    let table = read("mountinfo").map_err(|error| {
        // What a process had is gone with it, while its number waits for its parent (proc_pid_stat(5), state Z).
        if std::fs::read_link(format!("/proc/{pid}/root")).is_err() && error.raw_os_error() == Some(22) {
            let help = "name one that still runs, such as its parent";
            return wrong("it has ended: it is a zombie, which has no files any more".to_owned(), help);
        }
        DiskError::io(&shown, &error)
    })?;
    let lines = mounts::read(&format!("/proc/{pid}/mountinfo"), &mut &table[..])?;
    // The link leads into the process's own mount namespace, which its path does not.
    let root = rustix::fs::open(
        format!("/proc/{pid}/root"),
        OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC,
        OpenMode::empty(),
    );
    let root = root.map_err(|error| {
        let error = io::Error::from(error);
        wrong(
            format!("its files cannot be looked at: {error}"),
            "run it as root, or as the user of the process",
        )
    })?;
    let map = |name: &str| read(name).map(|text| id_map(&text)).unwrap_or_default();
    let same = |name: &str| {
        let link = |who: &str| std::fs::read_link(format!("/proc/{who}/ns/{name}")).ok();
        link("self").is_some() && link("self") == link(&pid.to_string())
    };
    // Reading from its root changes the working directory of the thread that reads.
    let mounts = live::on_own_thread(|| Reading::new(&shown, &root, lines).all(reach))
        .map_err(|error| DiskError::io(&shown, &error))?;
    Ok(Process {
        pid,
        name: status.name,
        uid: status.uid,
        gid: status.gid,
        groups: status.groups,
        capabilities: status.capabilities,
        umask: status.umask,
        no_new_privileges: status.no_new_privileges,
        security: read("attr/current").ok().and_then(|text| security(&text)),
        uid_map: map("uid_map"),
        gid_map: map("gid_map"),
        same_mounts: same("mnt"),
        mounts,
    })
}

/// The text of `attr/current`, behind which there is a NUL or a newline.
fn security(text: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(text);
    let text = text.trim_end_matches(['\0', '\n']);
    (!text.is_empty()).then(|| text.to_owned())
}

fn id_map(text: &[u8]) -> Vec<(u32, u32, u32)> {
    let text = String::from_utf8_lossy(text);
    let line = |line: &str| {
        let mut numbers = line.split_whitespace().map(str::parse);
        Some((numbers.next()?.ok()?, numbers.next()?.ok()?, numbers.next()?.ok()?))
    };
    text.lines().filter_map(line).collect()
}

/// The files of a process while they are read.
struct Reading<'a> {
    shown: &'a str,
    root: &'a OwnedFd,
    mounts: Vec<Mounted>,
    /// Directories that were listed, by path.
    listed: BTreeSet<Vec<u8>>,
}

struct Mounted {
    line: MountLine,
    grower: Grower,
    /// Whether anything was read of it.
    begun: bool,
    file: Option<Vec<u8>>,
}

impl<'a> Reading<'a> {
    fn new(shown: &'a str, root: &'a OwnedFd, lines: Vec<MountLine>) -> Self {
        let mounted = |line: MountLine| {
            let what = format!("{shown} at {}", quoted(&line.at));
            let fact = format!("what is in directories of {what} that were not asked for");
            let rest = Certainty::Unknown(Unknown::new(&fact, "name a path in them"));
            let origin = Provenance::Source(Arc::from(what.as_str()));
            let mut grower = Grower::with_rest(origin, &what, false, rest.clone());
            // Until a directory is listed, nothing about it is known; listing settles it piece by piece.
            grower.tree.set_doubt(Tree::ROOT, Doubt::new(rest.clone(), rest));
            Mounted { line, grower, begun: false, file: None }
        };
        Self {
            shown,
            root,
            mounts: mounts::visible(lines).into_iter().map(mounted).collect(),
            listed: BTreeSet::new(),
        }
    }

    fn all(mut self, reach: &Reach) -> Vec<ProcessMount> {
        if let Ok(entry) = live::of_open(self.root) {
            self.put(b"", entry);
        }
        // Every mount point must be there for its mount to be made.
        let points: Vec<Vec<u8>> = self.mounts.iter().map(|mount| mount.line.at.clone()).collect();
        points.iter().for_each(|point| self.walk(point));
        for path in &reach.paths {
            let reached = self.reach(path);
            if let Some(top) = reached
                && reach.whole
            {
                self.everything(top);
            }
        }
        let done = |mount: Mounted| {
            let (tree, _) = mount.grower.finish();
            ProcessMount { line: mount.line, tree: mount.begun.then(|| Arc::new(tree)), file: mount.file }
        };
        self.mounts.into_iter().map(done).collect()
    }

    /// Lists every directory on the way to a path without links.
    fn walk(&mut self, path: &[u8]) {
        let mut here = Vec::new();
        for name in path.split(|byte| *byte == b'/').filter(|name| !name.is_empty()) {
            self.list(&here);
            here = join(&here, name);
        }
    }

    /// Goes to a path as the process would, listing every directory on the way and the last one; where it leads to.
    fn reach(&mut self, path: &[u8]) -> Option<Vec<u8>> {
        let mut pending: Vec<Vec<u8>> = parts(path).rev().map(<[u8]>::to_vec).collect();
        let mut here = Vec::new();
        let mut links = 0;
        while let Some(name) = pending.pop() {
            // `..` at the root of the process stays there, as its own walks do.
            if name == b".." {
                here.truncate(here.iter().rposition(|byte| *byte == b'/').unwrap_or(0));
                continue;
            }
            self.list(&here);
            let next = join(&here, &name);
            match self.target(&next) {
                None => here = next,
                Some(target) => {
                    links += 1;
                    if links > MOST_LINKS {
                        return None;
                    }
                    // An absolute target begins at the root of the process, not at ours.
                    if target.first() == Some(&b'/') {
                        here.clear();
                    }
                    pending.extend(parts(&target).rev().map(<[u8]>::to_vec));
                }
            }
        }
        self.list(&here);
        Some(here)
    }

    /// Lists everything below a directory.
    fn everything(&mut self, top: Vec<u8>) {
        let mut pending = vec![top];
        while let Some(path) = pending.pop() {
            self.list(&path);
            let Some((tree, id)) = self.find(&path) else { continue };
            let directories = tree.children(id).filter(|(_, id)| tree.inode(*id).kind == FileKind::Directory);
            pending.extend(directories.map(|(name, _)| join(&path, name)).collect::<Vec<_>>());
        }
    }

    /// Reads the entries of a directory, once.
    fn list(&mut self, path: &[u8]) {
        if !self.listed.insert(path.to_vec()) {
            return;
        }
        let at = [b"/", path].concat();
        let index = self.covering(&at);
        match live::list_one(self.root, path) {
            Ok(entries) => {
                for (name, entry) in entries {
                    let entry = match entry.kind {
                        FileKind::Directory => self.unlisted(entry, &join(&at, &name)),
                        FileKind::File
                        | FileKind::Link
                        | FileKind::Fifo
                        | FileKind::Socket
                        | FileKind::CharDevice
                        | FileKind::BlockDevice => entry,
                    };
                    self.put(&join(path, &name), entry);
                }
                self.settle(index, &at, Certainty::Known);
            }
            Err(error) => {
                let error = io::Error::from(error);
                // What is not a directory has nothing to list.
                if error.kind() != io::ErrorKind::NotADirectory && error.kind() != io::ErrorKind::NotFound {
                    let fact = format!("what is in {} of {} ({error})", quoted(&at), self.shown);
                    let unknown =
                        Unknown::new(&fact, "run it as a user with the right to look, such as root");
                    self.settle(index, &at, Certainty::Unknown(unknown));
                }
            }
        }
    }

    fn unlisted(&self, mut entry: Entry, at: &[u8]) -> Entry {
        let fact = format!("what is in {} of {}, which was not asked for", quoted(at), self.shown);
        let contents = Certainty::Unknown(Unknown::new(&fact, "name a path in it"));
        let before = entry.doubt.take().unwrap_or_default();
        entry.doubt = Some(Doubt { contents, ..before });
        entry
    }

    /// Says how sure it is that the entries of a directory are all.
    fn settle(&mut self, index: usize, at: &[u8], contents: Certainty) {
        let mount = &mut self.mounts[index];
        let rest = at[mount.line.at.len().min(at.len())..].to_vec();
        if let Some(id) = mount.grower.tree.find(&rest) {
            let before = mount.grower.tree.doubt(id).cloned().unwrap_or_default();
            mount.grower.tree.set_doubt(id, Doubt { contents, ..before });
        }
    }

    /// Puts what is at a path into the tree of its mount; a mount point into both.
    fn put(&mut self, path: &[u8], entry: Entry) {
        let at = [b"/", path].concat();
        // What shows at a mount point is the root of what is mounted; the directory above lists it too.
        let point = self.mounts.iter().position(|mount| mount.line.at == at);
        if let Some(index) = point {
            let mount = &mut self.mounts[index];
            mount.begun = true;
            if entry.kind == FileKind::Directory {
                mount.grower.tree.become_like(Tree::ROOT, &entry);
            } else {
                let name = at.rsplit(|byte| *byte == b'/').next().unwrap_or_default().to_vec();
                // Names are plain: the kernel gave them.
                let _ = mount.grower.put(&name, entry.clone());
                mount.file = Some(name);
            }
        }
        let above = &at[..at.iter().rposition(|byte| *byte == b'/').unwrap_or(0).max(1)];
        if at.len() > 1 {
            let index = self.covering(above);
            let mount = &mut self.mounts[index];
            let rest = at[mount.line.at.len()..].to_vec();
            let _ = mount.grower.put(&rest, entry);
            mount.begun = true;
        }
    }

    /// The mount that a directory is on; its own where it is a mount point.
    fn covering(&self, at: &[u8]) -> usize {
        let inside = self.mounts.iter().enumerate().filter(|(_, mount)| is_within(at, &mount.line.at));
        // The innermost mount is the one a path ends up on; hidden ones were taken out before.
        inside.max_by_key(|(_, mount)| mount.line.at.len()).map_or(0, |(index, _)| index)
    }

    fn find(&self, path: &[u8]) -> Option<(&Tree, mivask_model::tree::InodeId)> {
        let at = [b"/", path].concat();
        let mount = &self.mounts[self.covering(&at)];
        let tree = &mount.grower.tree;
        Some((tree, tree.find(&at[mount.line.at.len().min(at.len())..])?))
    }

    fn target(&self, path: &[u8]) -> Option<Vec<u8>> {
        let (tree, id) = self.find(path)?;
        tree.target(id).map(<[u8]>::to_vec)
    }
}

fn parts(path: &[u8]) -> impl DoubleEndedIterator<Item = &[u8]> {
    path.split(|byte| *byte == b'/').filter(|part| !part.is_empty() && *part != b".")
}
