//! Whole trees against the kernel: what a sweep says of every entry of a real directory, and what a running process is
//! predicted to do, is what the same identity meets there, errno included.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{PermissionsExt, chown, symlink};
use std::path::{Path, PathBuf};

use mivask_core::acl::Acl;
use mivask_core::act::parse_act;
use mivask_core::mode::{FileKind, Mode};
use mivask_core::outcome::Errno;
use mivask_core::prepare;
use mivask_core::question::{Cell, Column, ask, overview, summed, sweep};
use mivask_core::settle::Outcome;
use mivask_core::stage::Stage;
use mivask_core::xattr;
use mivask_disk::process::{Reach, look};
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{Disk, Origin, read_input};
use rustix::fs::{Access, AtFlags, CWD, Mode as OpenMode, OFlags, XattrFlags};
use rustix::process::{Gid, Uid};

/// A directory of mixed owners, modes, ACLs, sticky and closed directories, links and programs.
fn volume() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
    let mut random = fastrand::Rng::with_seed(3);
    let owners = [0, 7101, 7102, 7103];
    let groups = [0, 7200, 7300, 7400];
    let acls =
        ["user:7101:rw-,mask::rw-", "group:7300:r-x,mask::r--", "user:7102:---,group:7200:rwx,mask::rwx"];
    let mut directories = vec![folder.path().to_path_buf()];
    for index in 0..400 {
        let above = directories[random.usize(..directories.len())].clone();
        let path = above.join(format!("e{index}"));
        let directory = random.u8(..10) < 1;
        if directory {
            fs::create_dir(&path).unwrap();
        } else if random.u8(..10) == 0 {
            symlink(format!("{}e{}", ["", "../", "./"][random.usize(..3)], random.usize(..index + 1)), &path)
                .unwrap();
            continue;
        } else {
            let contents: [&[u8]; 4] = [b"", b"data", b"#!/none\n", b"\x7fELF"];
            fs::write(&path, contents[random.usize(..4)]).unwrap();
        }
        chown(&path, Some(owners[random.usize(..4)]), Some(groups[random.usize(..4)])).unwrap();
        let bits =
            [0o755, 0o750, 0o700, 0o644, 0o640, 0o604, 0o660, 0o066, 0o1777, 0o2775, 0o777, 0o711, 0o000];
        fs::set_permissions(&path, fs::Permissions::from_mode(bits[random.usize(..bits.len())])).unwrap();
        if random.u8(..10) < 3 {
            let acl = Acl::parse(acls[random.usize(..3)], Mode::new(0o640)).unwrap();
            // A file system without ACLs is just a smaller test.
            let _ = rustix::fs::setxattr(&path, xattr::ACCESS, &xattr::encode(&acl), XattrFlags::empty());
        }
        if directory {
            directories.push(path);
        }
    }
    folder
}

fn staged(folder: &Path, who: (u32, u32, &[u32])) -> Stage {
    let scene = tempfile::tempdir().unwrap();
    let (uid, gid, groups) = who;
    let text = format!(
        "scene: 1\ncontainers:\n  - name: gauge\n    image: x\n    user: \"{uid}:{gid}\"\n    groups: {groups:?}\n    \
         capabilities: {{ drop: [ALL] }}\n    mounts: [{{ volume: v, at: /data }}]\nimages: {{ x: {{ tree: [{{ path: /, kind: dir, \
         owner: \"0:0\", mode: \"0755\" }}] }} }}\nvolumes: {{ v: {{ filesystem: ext4, tree: {:?} }} }}\nhost: {{ sysctls: {{ fs.protected_symlinks: 0 }} }}\n",
        folder.display().to_string()
    );
    let path = scene.path().join("s.yaml");
    fs::write(&path, text).unwrap();
    let mut diagnostics = Diagnostics::default();
    let read = read_input(&Origin::of(&path), &Disk, &mut diagnostics).unwrap();
    assert!(!diagnostics.has_errors(), "{diagnostics:?}");
    prepare::stage(&read)
}

/// Runs `work` as someone else, without capabilities.
fn as_somebody<T: Send>(who: (u32, u32, &[u32]), work: impl FnOnce() -> T + Send) -> T {
    std::thread::scope(|scope| {
        let run = || {
            let (uid, gid) = (Uid::from_raw(who.0), Gid::from_raw(who.1));
            let groups: Vec<Gid> = who.2.iter().map(|gid| Gid::from_raw(*gid)).collect();
            rustix::thread::set_thread_groups(&groups).unwrap();
            rustix::thread::set_thread_res_gid(gid, gid, gid).unwrap();
            rustix::thread::set_thread_res_uid(uid, uid, uid).unwrap();
            work()
        };
        scope.spawn(run).join().unwrap()
    })
}

/// What the kernel says of one column: the real operation, or the check of it where that would change something.
fn kernel(path: &Path, column: Column) -> Result<(), Errno> {
    let open = |flags| {
        rustix::fs::open(path, flags | OFlags::NONBLOCK | OFlags::CLOEXEC, OpenMode::empty()).map(drop)
    };
    let access = |path: &Path, access| rustix::fs::accessat(CWD, path, access, AtFlags::EACCESS);
    let result = match column {
        Column::Read => open(OFlags::RDONLY),
        Column::Write => open(OFlags::WRONLY),
        Column::List => open(OFlags::RDONLY | OFlags::DIRECTORY),
        Column::Create => access(path, Access::WRITE_OK | Access::EXEC_OK),
        Column::Enter | Column::Run => access(path, Access::EXEC_OK),
        Column::Delete => access(path.parent().unwrap(), Access::WRITE_OK | Access::EXEC_OK),
    };
    result.map_err(|error| {
        let name = std::io::Error::from(error);
        Errno::by_number(name.raw_os_error().unwrap()).unwrap_or_else(|| panic!("{}: {name}", path.display()))
    })
}

const WHO: [(u32, u32, &[u32]); 4] =
    [(7101, 7200, &[]), (7102, 7300, &[7400]), (7103, 0, &[7200, 7300]), (65533, 65533, &[])];

#[test]
fn a_sweep_of_a_real_directory_is_what_the_kernel_says() {
    if !rustix::process::geteuid().is_root() {
        println!(
            "skipped: a_sweep_of_a_real_directory_is_what_the_kernel_says: taking on other identities takes root"
        );
        return;
    }
    let folder = volume();
    let mut checked = BTreeMap::new();
    for who in WHO {
        let stage = staged(folder.path(), who);
        let mut rows = Vec::new();
        sweep(&stage, &stage.actors[0], b"/data", |swept| {
            for column in Column::ALL {
                rows.push((swept.path.to_vec(), swept.kind, column, swept.cell(column)));
            }
        })
        .unwrap();
        let held = as_somebody(who, || {
            rows.iter()
                .map(|(path, ..)| folder.path().join(OsStr::from_bytes(&path[6..])))
                .zip(&rows)
                .map(|(real, (_, _, column, _))| kernel(&real, *column))
                .collect::<Vec<_>>()
        });
        for ((path, kind, column, cell), real) in rows.iter().zip(held) {
            let shown = String::from_utf8_lossy(path);
            // What sticky bits, emptiness and programs add is held elsewhere; here the walk and the bits count.
            let predicted = match (column, cell) {
                (_, Cell::Void) => continue,
                (Column::Run, Cell::Denied(Errno::ENOEXEC) | Cell::Open) => Ok(()),
                (Column::Run, Cell::Denied(Errno::ENOENT)) => Ok(()),
                (Column::Delete, Cell::Denied(Errno::EPERM | Errno::ENOTEMPTY)) => Ok(()),
                (_, Cell::Allowed) => Ok(()),
                (_, Cell::Denied(errno)) => Err(*errno),
                (_, Cell::Open) => panic!("{shown} {column:?} is open"),
            };
            // A link is followed by the kernel's check, and means itself when it is removed.
            if *kind == FileKind::Link && *column == Column::Run {
                continue;
            }
            assert_eq!(predicted, real, "{who:?} {column:?} {kind:?} {shown}");
            *checked.entry((*column, predicted)).or_insert(0) += 1;
        }
        sums_agree(&stage, &rows);
    }
    assert!(checked.len() >= 12, "every column both ways: {checked:?}");
}

/// The sums are those of the rows.
fn sums_agree(stage: &Stage, rows: &[(Vec<u8>, FileKind, Column, Cell)]) {
    let found = overview(stage, &stage.actors[0], 0, b"/data", |_| true, |_| ()).unwrap();
    assert_eq!(found, summed(stage, &stage.actors[0], 0, b"/data", |_| true).unwrap());
    assert_eq!(found.entries * 7, rows.len() as u64);
    let mut counts: BTreeMap<(Column, Cell), u64> = BTreeMap::new();
    let mut parents: BTreeMap<(Column, Cell), std::collections::BTreeSet<PathBuf>> = BTreeMap::new();
    for (path, _, column, cell) in
        rows.iter().filter(|(_, _, column, cell)| *cell != Cell::Void && *column != Column::Run)
    {
        *counts.entry((*column, *cell)).or_default() += 1;
        let parent = Path::new(OsStr::from_bytes(path)).parent().unwrap().to_path_buf();
        parents.entry((*column, *cell)).or_default().insert(parent);
    }
    let mut summed: BTreeMap<(Column, Cell), u64> = BTreeMap::new();
    for share in found.shares.iter().filter(|share| share.column != Column::Run) {
        *summed.entry((share.column, share.ending.cell)).or_default() += share.entries;
        assert!(share.directories <= parents[&(share.column, share.ending.cell)].len() as u64, "{share:?}");
        assert!(share.ending.check.is_some() || share.ending.cell == Cell::Allowed, "{share:?}");
    }
    assert_eq!(summed, counts);
    let shut: u64 = found
        .shares
        .iter()
        .filter(|share| share.shut && share.column == Column::Delete)
        .map(|share| share.entries)
        .sum();
    let named: u64 = found.blockers.iter().map(|blocker| blocker.entries).sum();
    assert!(
        named <= shut && (found.blocking <= 10) == (named == shut),
        "{named} of {shut}: {:?}",
        found.blockers
    );
}

#[test]
fn a_running_process_meets_what_is_predicted() {
    if !rustix::process::geteuid().is_root() {
        println!(
            "skipped: a_running_process_meets_what_is_predicted: starting a process as somebody else takes root"
        );
        return;
    }
    use std::os::unix::process::CommandExt;
    let folder = volume();
    let mut command = std::process::Command::new("sleep");
    let mut sleeper = command.arg("600").uid(7102).gid(7300).spawn().unwrap();
    let mut paths: Vec<Vec<u8>> = Vec::new();
    let mut pending = vec![folder.path().to_path_buf()];
    while let Some(directory) = pending.pop() {
        for entry in fs::read_dir(directory).unwrap().map(Result::unwrap) {
            paths.push(entry.path().into_os_string().into_encoded_bytes());
            pending.extend(entry.file_type().unwrap().is_dir().then(|| entry.path()));
        }
    }
    let reach = Reach { paths: paths.clone(), whole: false };
    let process = look(sleeper.id(), &reach);
    let _ = sleeper.kill();
    let _ = sleeper.wait();
    let scene = mivask_read::process::scene(process.unwrap(), mivask_kernel::settings());
    let stage = prepare::stage(&scene);
    let verbs = [("reads", Column::Read), ("writes", Column::Write)];
    let real: Vec<Result<(), Errno>> = as_somebody((7102, 7300, &[]), || {
        paths
            .iter()
            .flat_map(|path| verbs.map(|(_, column)| kernel(Path::new(OsStr::from_bytes(path)), column)))
            .collect()
    });
    let mut denied = 0;
    let acts = paths
        .iter()
        .flat_map(|path| verbs.map(|(verb, _)| format!("process {verb} {}", String::from_utf8_lossy(path))));
    for (act, real) in acts.zip(real) {
        let answer = ask(&stage, &parse_act(&act).unwrap()).unwrap();
        let predicted = match answer.outcome {
            Outcome::Allowed => Ok(()),
            Outcome::Denied(Some(errno)) => Err(errno),
            other @ (Outcome::Denied(None) | Outcome::Depends | Outcome::NeverRuns(_)) => {
                panic!("{act}: {other:?} {:?}", answer.depends_on)
            }
        };
        assert_eq!(predicted, real, "{act}");
        denied += u32::from(predicted.is_err());
    }
    assert!(denied > 100 && denied < 790 && paths.len() == 400, "{denied} of {}", paths.len());
}
