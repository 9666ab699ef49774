//! Who may enter a FUSE mount and who checks its modes, against the running kernel.
//!
//! A small file system is served from this process; ordinary tools act on it as several identities. Where root or
//! `/dev/fuse` is missing each mount says `skipped` and why.

#![expect(clippy::print_stdout, reason = "CI counts the lines that say `skipped`")]

use std::ffi::OsStr;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use fuser::{
    BsdFileFlags, Config, Errno, FileAttr, FileHandle, FileType, Filesystem, Generation, INodeNo, LockOwner,
    OpenFlags, ReplyAttr, ReplyData, ReplyDirectory, ReplyEntry, Request, Session, SessionACL, TimeOrNow,
};
use mivask_core::act::parse_act;
use mivask_core::prepare;
use mivask_core::question::ask;
use mivask_core::settle::Outcome;
use mivask_core::stage::Stage;
use mivask_disk::live::{self, Options};
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{Disk, Origin};
use mivask_read::scene_file::read_scene;
use mivask_read::text::SourceText;
use mivask_read::yaml;
use rustix::fs::{Mode, OFlags};
use rustix::mount::{MountFlags, UnmountFlags};

/// Name, owner, group and mode of what is served; the first is the root.
const INODES: [(&str, u32, u32, u16); 5] = [
    ("/", 7101, 7200, 0o755),
    ("open", 0, 0, 0o644),
    ("closed", 0, 0, 0o600),
    ("mine", 7101, 7200, 0o600),
    ("group", 0, 7200, 0o640),
];

/// The actors: name, user, group.
const ACTORS: [(&str, u32, u32); 4] =
    [("root", 0, 0), ("gauge", 7101, 7200), ("press", 7102, 7200), ("half", 7101, 7300)];

struct Served;

fn attributes(ino: INodeNo) -> Option<FileAttr> {
    let number = u64::from(ino);
    let (_, uid, gid, mode) = *INODES.get(usize::try_from(number).ok()?.checked_sub(1)?)?;
    let kind = if number == 1 { FileType::Directory } else { FileType::RegularFile };
    Some(FileAttr {
        ino,
        size: 0,
        blocks: 0,
        atime: UNIX_EPOCH,
        mtime: UNIX_EPOCH,
        ctime: UNIX_EPOCH,
        crtime: UNIX_EPOCH,
        kind,
        perm: mode,
        nlink: 1,
        uid,
        gid,
        rdev: 0,
        flags: 0,
        blksize: 512,
    })
}

impl Filesystem for Served {
    fn lookup(&self, _: &Request, _: INodeNo, name: &OsStr, reply: ReplyEntry) {
        let found = INODES.iter().position(|(known, ..)| name == *known);
        match found.and_then(|index| attributes(INodeNo(index as u64 + 1))) {
            Some(attributes) => reply.entry(&Duration::ZERO, &attributes, Generation(0)),
            None => reply.error(Errno::ENOENT),
        }
    }

    fn getattr(&self, _: &Request, ino: INodeNo, _: Option<FileHandle>, reply: ReplyAttr) {
        match attributes(ino) {
            Some(attributes) => reply.attr(&Duration::ZERO, &attributes),
            None => reply.error(Errno::ENOENT),
        }
    }

    fn read(
        &self,
        _: &Request,
        _: INodeNo,
        _: FileHandle,
        _: u64,
        _: u32,
        _: OpenFlags,
        _: Option<LockOwner>,
        reply: ReplyData,
    ) {
        reply.data(b"");
    }

    /// Whoever asks is let, and nothing changes.
    fn setattr(
        &self,
        _: &Request,
        ino: INodeNo,
        _: Option<u32>,
        _: Option<u32>,
        _: Option<u32>,
        _: Option<u64>,
        _: Option<TimeOrNow>,
        _: Option<TimeOrNow>,
        _: Option<SystemTime>,
        _: Option<FileHandle>,
        _: Option<SystemTime>,
        _: Option<SystemTime>,
        _: Option<SystemTime>,
        _: Option<BsdFileFlags>,
        reply: ReplyAttr,
    ) {
        match attributes(ino) {
            Some(attributes) => reply.attr(&Duration::ZERO, &attributes),
            None => reply.error(Errno::ENOENT),
        }
    }

    fn readdir(&self, _: &Request, _: INodeNo, _: FileHandle, offset: u64, mut reply: ReplyDirectory) {
        for (index, (name, ..)) in INODES.iter().enumerate().skip(1) {
            let number = index as u64 + 1;
            if number > offset && reply.add(INodeNo(number), number, FileType::RegularFile, name) {
                break;
            }
        }
        reply.ok();
    }
}

/// The file system served at a temporary folder, until it is dropped.
struct Mounted {
    folder: tempfile::TempDir,
    /// How serving ended, once it has: with the mount, or before it.
    ended: Arc<Mutex<Option<String>>>,
}

impl Mounted {
    fn new(options: &[&str]) -> Result<Self, String> {
        Self::serving(Served, options)
    }

    fn serving(served: impl Filesystem, options: &[&str]) -> Result<Self, String> {
        if let Some(reason) = mivask_kernel::unavailable() {
            return Err(reason);
        }
        let device = rustix::fs::open("/dev/fuse", OFlags::RDWR | OFlags::CLOEXEC, Mode::empty())
            .map_err(|error| format!("/dev/fuse: {error}"))?;
        let folder = tempfile::tempdir().map_err(|error| error.to_string())?;
        std::fs::set_permissions(folder.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755))
            .map_err(|error| error.to_string())?;
        let fd = std::os::fd::AsRawFd::as_raw_fd(&device);
        let data = format!("fd={fd},rootmode=40000,{}", options.join(","));
        let data = std::ffi::CString::new(data).map_err(|error| error.to_string())?;
        rustix::mount::mount("mivask-test", folder.path(), "fuse", MountFlags::NOSUID, Some(data.as_c_str()))
            .map_err(|error| format!("mounting FUSE: {error}"))?;
        let mounted = Self { folder, ended: Arc::default() };
        let session = Session::from_fd(served, device, SessionACL::All, Config::default());
        session.and_then(|session| session.spawn()).map_err(|error| error.to_string()).map(|serving| {
            // It ends with the mount.
            let ended = mounted.ended.clone();
            std::thread::spawn(move || {
                let how = format!("{:?}", serving.join());
                *ended.lock().unwrap_or_else(PoisonError::into_inner) = Some(how);
            });
            mounted
        })
    }

    fn path(&self, inside: &str) -> PathBuf {
        self.folder.path().join(inside.strip_prefix("/v").unwrap_or(inside).trim_start_matches('/'))
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        let _ = rustix::mount::unmount(self.folder.path(), UnmountFlags::DETACH);
    }
}

/// The same as a scene: the volume at `/v`, and the actors.
fn stage(options: &[&str]) -> Stage {
    let entry = |(index, (name, uid, gid, mode)): (usize, &(&str, u32, u32, u16))| {
        let (path, kind) = if index == 0 { ("/".to_owned(), "dir") } else { (format!("/{name}"), "file") };
        format!("{{ path: {path}, kind: {kind}, owner: '{uid}:{gid}', mode: {mode:04o} }}")
    };
    let tree: Vec<String> = INODES.iter().enumerate().map(entry).collect();
    let mut text = format!(
        "scene: 1\nvolumes:\n  root: {{ filesystem: ext4, tree: [{{ path: /, kind: dir, owner: '0:0', mode: 0755 }}, \
         {{ path: /v, kind: dir, owner: '0:0', mode: 0755 }}] }}\n  v: {{ filesystem: fuse, options: [{}], tree: [{}] \
         }}\ncontainers:\n",
        options.join(", "),
        tree.join(", ")
    );
    for (name, uid, gid) in ACTORS {
        let capabilities = if uid == 0 { "all" } else { "[]" };
        text.push_str(&format!(
            "  - {{ name: {name}, user: '{uid}:{gid}', effective-capabilities: {capabilities}, mounts: [{{ volume: \
             root, at: / }}, {{ volume: v, at: /v }}] }}\n"
        ));
    }
    let source = SourceText::new("fuse.yaml", &text);
    let mut diagnostics = Diagnostics::default();
    let nodes = yaml::parse(&source, &mut diagnostics);
    let scene = read_scene(&nodes[0], &source, &Origin::Standard, &Disk, &mut diagnostics);
    assert!(diagnostics.is_empty(), "{text}");
    prepare::stage(&scene.expect("a scene"))
}

/// How long a tool may wait for an answer of the server, which lives in this process.
const PATIENCE: Duration = Duration::from_secs(60);

/// What a tool says on its standard error, and whether it succeeds; `None` where it gets no answer.
fn patiently(command: &mut Command) -> Option<(bool, String)> {
    let mut tool = command.stdout(Stdio::null()).stderr(Stdio::piped()).spawn().expect("the tool runs");
    let begun = Instant::now();
    while tool.try_wait().expect("our own child").is_none() {
        if begun.elapsed() > PATIENCE {
            tool.kill().expect("our own child");
            return None;
        }
        std::thread::sleep(Duration::from_millis(2));
    }
    let output = tool.wait_with_output().expect("it has ended");
    Some((output.status.success(), String::from_utf8_lossy(&output.stderr).into_owned()))
}

/// What an ordinary tool meets as that identity: the name of the errno where it was not let. The outer `None` where it gets no
/// answer at all.
fn really(verb: &str, path: &Path, uid: u32, gid: u32) -> Option<Option<&'static str>> {
    let mut command = match verb.split(' ').next().unwrap_or_default() {
        "sets-mode" => Command::new("chmod"),
        "sets-owner" => Command::new("chown"),
        "backdates" => Command::new("touch"),
        "inspects" => Command::new("stat"),
        "reads" => Command::new("cat"),
        "lists" => Command::new("ls"),
        _ => Command::new("env"),
    };
    match verb {
        "enters" => command.arg("-C").arg(path).arg("true"),
        "sets-mode 0604 on" => command.arg("0604").arg(path),
        "sets-owner 7102 on" => command.arg("7102").arg(path),
        "backdates" => command.args(["-h", "-d", "@1"]).arg(path),
        _ => command.arg(path),
    };
    let (success, said) = patiently(command.uid(uid).gid(gid))?;
    let refused = [("Permission denied", "EACCES"), ("Operation not permitted", "EPERM")];
    let errno = refused.into_iter().find(|(text, _)| said.contains(text)).map(|(_, errno)| errno);
    assert!(success == errno.is_none(), "{verb}: {said}");
    Some(errno)
}

fn agree(test: &str, options: &[&str]) {
    let mounted = match Mounted::new(options) {
        Ok(mounted) => mounted,
        Err(reason) => {
            println!("skipped: {test}: {reason}");
            return;
        }
    };
    let stage = stage(options);
    let mut count = 0;
    for (name, uid, gid) in ACTORS {
        for (verb, paths) in [
            ("inspects", &["/v", "/v/open", "/v/closed"][..]),
            ("reads", &["/v/open", "/v/closed", "/v/mine", "/v/group"]),
            ("lists", &["/v"]),
            ("enters", &["/v"]),
            ("sets-mode 0604 on", &["/v/open", "/v/mine"]),
            ("sets-owner 7102 on", &["/v/open", "/v/mine"]),
            ("backdates", &["/v/open", "/v/mine"]),
        ] {
            for path in paths {
                let answer = ask(&stage, &parse_act(&format!("{name} {verb} {path}")).expect("an act"));
                let answer = answer.expect("the actor is known");
                let Some(refused) = really(verb, &mounted.path(path), uid, gid) else {
                    let ended = mounted.ended.lock().unwrap_or_else(PoisonError::into_inner).clone();
                    // One that is there has to answer.
                    let how = ended.expect("an answer of a server that has not ended");
                    println!("skipped: {test}: the file system of the test is served no more: {how}");
                    return;
                };
                let allowed = refused.is_none();
                let predicted = match &answer.outcome {
                    Outcome::Allowed => allowed,
                    Outcome::Denied(errno) => errno.map(|errno| errno.name()) == refused,
                    // The program behind this mount allows everything.
                    Outcome::Depends => {
                        let ending = answer.depends_on.iter().find(|one| {
                            let when = one.when();
                            when.contains("allows it") || when.starts_with("the server keeps")
                        });
                        ending.is_some_and(|ending| ending.end.effect().is_some() == allowed)
                    }
                    Outcome::NeverRuns(_) => false,
                };
                assert!(
                    predicted,
                    "{test}: {}: {:?}, really refused: {refused:?}",
                    answer.act, answer.outcome
                );
                count += 1;
            }
        }
    }
    assert_eq!(count, ACTORS.len() * 15);
}

#[test]
fn only_the_mounter_enters_a_private_mount() {
    agree("private", &["user_id=7101", "group_id=7200"]);
}

#[test]
fn the_kernel_checks_modes_in_a_private_mount() {
    agree("private, checked", &["user_id=7101", "group_id=7200", "default_permissions"]);
}

#[test]
fn everybody_enters_a_shared_mount_and_the_program_decides() {
    agree("shared", &["user_id=7101", "group_id=7200", "allow_other"]);
}

#[test]
fn everybody_enters_a_shared_mount_and_the_kernel_checks_modes() {
    agree("shared, checked", &["user_id=7101", "group_id=7200", "allow_other", "default_permissions"]);
}

/// A directory that never ends, or one that does not answer for a while.
struct Odd {
    endless: bool,
}

impl Filesystem for Odd {
    fn lookup(&self, _: &Request, _: INodeNo, _: &OsStr, reply: ReplyEntry) {
        match attributes(INodeNo(2)) {
            Some(attributes) => reply.entry(&Duration::ZERO, &attributes, Generation(0)),
            None => reply.error(Errno::ENOENT),
        }
    }

    fn getattr(&self, _: &Request, ino: INodeNo, _: Option<FileHandle>, reply: ReplyAttr) {
        match attributes(ino) {
            Some(attributes) => reply.attr(&Duration::ZERO, &attributes),
            None => reply.error(Errno::ENOENT),
        }
    }

    fn readdir(&self, _: &Request, _: INodeNo, _: FileHandle, offset: u64, mut reply: ReplyDirectory) {
        if !self.endless {
            std::thread::sleep(Duration::from_millis(1500));
            return reply.ok();
        }
        for number in offset + 1.. {
            if reply.add(INodeNo(2), number, FileType::RegularFile, format!("n{number}")) {
                break;
            }
        }
        reply.ok();
    }
}

static STALLED: Mutex<Vec<Vec<u8>>> = Mutex::new(Vec::new());

/// Surveys get past servers that no one means well with.
#[test]
fn servers_that_never_end_or_do_not_answer() {
    let mount = |endless| match Mounted::serving(Odd { endless }, &["user_id=0", "group_id=0", "allow_other"])
    {
        Ok(mounted) => Some(mounted),
        Err(reason) => {
            println!("skipped: servers_that_never_end_or_do_not_answer: {reason}");
            None
        }
    };
    let Some(endless) = mount(true) else { return };
    let options = Options { most_entries: 5_000, ..Options::default() };
    let error =
        live::gather(endless.folder.path(), &options, &|_| ()).expect_err("it never ends").to_string();
    assert!(error.contains("there are more than 5000 entries"), "{error}");
    let Some(silent) = mount(false) else { return };
    let note = |path: &[u8]| STALLED.lock().expect("no one fails").push(path.to_vec());
    let options = Options { patience: Duration::from_millis(100), stalled: Some(note), ..Options::default() };
    let gathered = live::gather(silent.folder.path(), &options, &|_| ()).expect("it answers in the end");
    assert_eq!(gathered.tree.len(), 1);
    assert_eq!(*STALLED.lock().expect("no one fails"), [Vec::<u8>::new()]);
}
