//! Directories of this machine, and the surveys of them.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

mod fixtures;

use std::fs;
use std::os::unix::fs::{PermissionsExt, chown, symlink};
use std::path::Path;

use mivask_disk::live::{self, Options};
use mivask_model::acl::Acl;
use mivask_model::mode::Mode;
use mivask_model::tree::{Content, Marks, Unrecorded};
use mivask_model::xattr;
use rustix::fs::XattrFlags;

use fixtures::{find, gather, is_root, listing, missing, read, recorded};

fn mode(path: &Path, bits: u32) {
    fs::set_permissions(path, fs::Permissions::from_mode(bits)).unwrap();
}

/// A directory with one of everything.
fn everything() -> tempfile::TempDir {
    use std::os::unix::ffi::OsStrExt;
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    mode(folder.path(), 0o750);
    fs::create_dir(at("dir")).unwrap();
    chown(at("dir"), Some(7101), Some(7200)).unwrap();
    mode(&at("dir"), 0o2770);
    fs::write(at("dir/level.csv"), "1\n").unwrap();
    chown(at("dir/level.csv"), Some(7102), Some(7300)).unwrap();
    mode(&at("dir/level.csv"), 0o640);
    fs::hard_link(at("dir/level.csv"), at("again")).unwrap();
    symlink("dir/level.csv", at("link")).unwrap();
    fs::write(at("program"), b"\x7fELF...").unwrap();
    mode(&at("program"), 0o4755);
    fs::write(at("script"), "#!/bin/sh -e\n").unwrap();
    mode(&at("script"), 0o755);
    fs::write(at("empty"), "").unwrap();
    let odd = folder.path().join(std::ffi::OsStr::from_bytes(b"\xff\n\x1b name"));
    fs::write(odd, "x").unwrap();
    rustix::fs::mkfifoat(rustix::fs::CWD, at("fifo"), rustix::fs::Mode::from(0o600)).unwrap();
    let null = rustix::fs::makedev(1, 3);
    let char_device = rustix::fs::FileType::CharacterDevice;
    rustix::fs::mknodat(rustix::fs::CWD, at("null"), char_device, rustix::fs::Mode::from(0o666), null)
        .unwrap();
    mode(&at("null"), 0o666);
    folder
}

#[test]
fn a_directory_is_read_as_it_is() {
    if !is_root() {
        return;
    }
    let folder = everything();
    let gathered = gather(folder.path()).unwrap();
    let expected = "drwxr-x--- 0/0 - .\n\
        -rw-r----- 7102/7300 - ./again\n\
        drwxrws--- 7101/7200 - ./dir\n\
        -rw-r----- 7102/7300 - ./dir/level.csv link to ./again\n\
        -rw-r--r-- 0/0 - ./empty\n\
        prw------- 0/0 - ./fifo\n\
        lrwxrwxrwx 0/0 - ./link -> dir/level.csv\n\
        crw-rw-rw- 0/0 1,3 ./null\n\
        -rwsr-xr-x 0/0 - ./program\n\
        -rwxr-xr-x 0/0 - ./script\n\
        -rw-r--r-- 0/0 - \"./\\xff\\x0a\\x1b name\"\n";
    assert_eq!(listing(&gathered.tree), expected);
    let content = |path| gathered.tree.content(find(&gathered.tree, path)).clone();
    assert_eq!(content("program"), Content::Program);
    assert_eq!(content("script"), Content::Script(b"/bin/sh"[..].into()));
    assert_eq!((content("empty"), content("again")), (Content::Empty, Content::Unknown));
    assert!(!gathered.holes.any());

    // A survey says the same, whoever of several threads was first.
    let survey = recorded(&gathered);
    let again = read(&survey).unwrap();
    assert_eq!(listing(&again.tree), expected);
    assert_eq!(again.tree.content(find(&again.tree, "script")), &Content::Script(b"/bin/sh"[..].into()));
    for threads in [1, 3, 8] {
        let options = Options { threads: Some(threads), ..Options::default() };
        let other = live::gather(folder.path(), &options, &|_| ()).unwrap();
        assert_eq!(recorded(&other), survey, "{threads} threads");
    }
}

#[test]
fn acls_capabilities_and_attributes_are_asked_for() {
    if !is_root() {
        return;
    }
    let folder = everything();
    let at = |name: &str| folder.path().join(name);
    let acl = Acl::parse("user:7105:rw-,group:7300:r--,mask::rw-", Mode::new(0o640)).unwrap();
    let set = |name: &str, attribute, value: &[u8]| {
        rustix::fs::setxattr(at(name), attribute, value, XattrFlags::empty())
    };
    if let Err(error) = set("dir/level.csv", xattr::ACCESS, &xattr::encode(&acl)) {
        println!(
            "skipped: acls_capabilities_and_attributes_are_asked_for: no ACLs on {}: {error}",
            folder.path().display()
        );
        return;
    }
    set("dir", xattr::DEFAULT, &xattr::encode(&acl)).unwrap();
    let capabilities = "NET_RAW=ep".parse().unwrap();
    set("program", xattr::CAPABILITIES, &xattr::encode_capabilities(Some(&capabilities))).unwrap();
    let label = "system_u:object_r:container_file_t:s0:c1,c2";
    set("dir", xattr::LABEL, format!("{label}\0").as_bytes()).unwrap();
    // As some tools write it; and what is no label.
    set("program", xattr::LABEL, label.as_bytes()).unwrap();
    set("again", xattr::LABEL, b"\x1b[31m\0").unwrap();
    let gathered = gather(folder.path()).unwrap();
    let again = read(&recorded(&gathered)).unwrap();
    for tree in [&gathered.tree, &again.tree] {
        assert_eq!(tree.acl(find(tree, "again")), Some(&acl));
        assert_eq!(tree.default_acl(find(tree, "dir")), Some(&acl));
        assert_eq!(tree.capabilities(find(tree, "program")), Some(&capabilities));
        let labels =
            ["dir", "program", "again"].map(|name| tree.extended(find(tree, name))?.label.as_deref());
        assert_eq!(labels, [Some(label), Some(label), None]);
        assert_eq!(*tree.unrecorded(), Unrecorded::default());
    }
    let options = Options { acls: false, ..Options::default() };
    let without = live::gather(folder.path(), &options, &|_| ()).unwrap();
    assert_eq!(without.tree.acl(find(&without.tree, "again")), None);
    assert!(
        read(&recorded(&without)).unwrap().tree.unrecorded().acls.as_ref().unwrap().contains("did not ask")
    );
}

#[test]
fn the_immutable_attribute_is_seen_where_the_file_system_has_it() {
    use rustix::fs::IFlags;
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("kept");
    fs::write(&path, "x").unwrap();
    let file = fs::File::open(&path).unwrap();
    if let Err(error) = rustix::fs::ioctl_setflags(&file, IFlags::IMMUTABLE) {
        println!("skipped: the_immutable_attribute_is_seen_where_the_file_system_has_it: {error}");
        return;
    }
    let gathered = gather(folder.path());
    rustix::fs::ioctl_setflags(&file, IFlags::empty()).unwrap();
    let tree = read(&recorded(&gathered.unwrap())).unwrap().tree;
    assert!(tree.inode(find(&tree, "kept")).marks.has(Marks::IMMUTABLE));
}

/// What may not be looked at is unknown, counted, and nothing else is lost.
#[test]
fn what_is_denied_is_unknown_and_counted() {
    if !is_root() {
        return;
    }
    let folder = everything();
    mode(folder.path(), 0o755);
    fs::create_dir(folder.path().join("listed-only")).unwrap();
    fs::write(folder.path().join("listed-only/inner"), "x").unwrap();
    mode(&folder.path().join("listed-only"), 0o744);
    let path = folder.path().to_path_buf();
    let gathered = std::thread::spawn(move || {
        let (nobody, group) = (rustix::process::Uid::from_raw(65533), rustix::process::Gid::from_raw(65533));
        rustix::thread::set_thread_groups(&[]).unwrap();
        rustix::thread::set_thread_res_gid(group, group, group).unwrap();
        rustix::thread::set_thread_res_uid(nobody, nobody, nobody).unwrap();
        gather(&path).unwrap()
    });
    let gathered = gathered.join().unwrap();
    assert_eq!((gathered.holes.denied, gathered.holes.vanished), (2, 0));
    let again = read(&recorded(&gathered)).unwrap();
    assert_eq!(again.holes, gathered.holes);
    let inner = missing(&again.tree, "listed-only/inner").unwrap();
    assert!(
        inner.starts_with("owner and mode of ")
            && inner.ends_with("/listed-only/inner (Permission denied (os error 13))"),
        "{inner}"
    );
    assert!(missing(&again.tree, "dir").unwrap().starts_with("what is in "));
    assert_eq!(missing(&again.tree, "program"), None);
}

/// Entries that come and go while the survey runs never stop it.
#[test]
fn a_directory_that_changes_is_read_all_the_same() {
    let folder = tempfile::tempdir().unwrap();
    let stop = std::sync::atomic::AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let path = |index: usize| folder.path().join(format!("d{}/f{index}", index % 7));
            for index in (0..200).cycle() {
                if stop.load(std::sync::atomic::Ordering::Relaxed) {
                    break;
                }
                let path = path(index);
                if fs::create_dir_all(path.parent().unwrap()).and_then(|()| fs::write(&path, "x")).is_ok()
                    && index % 3 == 0
                {
                    let _ = fs::remove_dir_all(path.parent().unwrap());
                }
            }
        });
        for _ in 0..30 {
            let gathered = gather(folder.path()).unwrap();
            let holes = gathered.holes;
            assert_eq!((holes.denied, holes.failed), (0, 0));
            read(&recorded(&gathered)).unwrap();
        }
        stop.store(true, std::sync::atomic::Ordering::Relaxed);
    });
}

/// Other file systems are left alone unless they are asked for, and a path longer than one call takes is not an obstacle.
#[test]
fn boundaries_and_long_paths() {
    let root = gather(Path::new("/dev")).unwrap();
    assert!(root.holes.boundaries > 0, "something is mounted below /dev everywhere");
    let across = Options { across_mounts: true, ..Options::default() };
    assert_eq!(live::gather(Path::new("/dev"), &across, &|_| ()).unwrap().holes.boundaries, 0);

    let folder = tempfile::tempdir().unwrap();
    let name = "n".repeat(250);
    let mut here =
        rustix::fs::open(folder.path(), rustix::fs::OFlags::DIRECTORY, rustix::fs::Mode::empty()).unwrap();
    for _ in 0..40 {
        rustix::fs::mkdirat(&here, &name, rustix::fs::Mode::from(0o755)).unwrap();
        here = rustix::fs::openat(&here, &name, rustix::fs::OFlags::DIRECTORY, rustix::fs::Mode::empty())
            .unwrap();
    }
    let gathered = gather(folder.path()).unwrap();
    assert_eq!((gathered.tree.len(), gathered.holes.any()), (41, false));
    assert_eq!(read(&recorded(&gathered)).unwrap().tree.len(), 41);
}
