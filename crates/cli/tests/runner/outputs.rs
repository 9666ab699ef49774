//! What is written where the user said, and what is left alone.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::fs;
use std::io::Read;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use rustix::fs::{FlockOperation, XattrFlags, flock, getxattr, setxattr};
use rustix::process::{Pid, Signal, kill_process};

use crate::scratch::{BOATS, Scratch};

const POD: &str =
    "apiVersion: v1\nkind: Pod\nmetadata: { name: p }\nspec: { containers: [{ name: c, image: i }] }\n";

fn names(folder: &Path) -> Vec<String> {
    let all = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap());
    let mut all: Vec<String> = all.collect();
    all.sort();
    all
}

fn report(scratch: &Scratch, to: &str) -> String {
    scratch.run(["report", "p.yaml", "-q", "-o", to])
}

#[expect(clippy::print_stdout, reason = "what is skipped is told")]
fn is_root(test: &str) -> bool {
    let root = rustix::process::geteuid().is_root();
    if !root {
        println!("skipped: {test}: it takes root to give files away");
    }
    root
}

#[test]
fn a_file_keeps_its_mode_and_attributes() {
    let scratch = Scratch::with("p.yaml", POD).and("f", "x");
    let f = scratch.path().join("f");
    fs::set_permissions(&f, fs::Permissions::from_mode(0o640)).unwrap();
    // Version 2, user::rw- user:7:r-- group::r-- mask::r-- other::---.
    let mut acl = 2_u32.to_le_bytes().to_vec();
    for (tag, bits, id) in
        [(1_u16, 6_u16, u32::MAX), (2, 4, 7), (4, 4, u32::MAX), (16, 4, u32::MAX), (32, 0, u32::MAX)]
    {
        acl.extend(tag.to_le_bytes());
        acl.extend(bits.to_le_bytes());
        acl.extend(id.to_le_bytes());
    }
    let kept = ["user.mine", "system.posix_acl_access"].map(|name| {
        let value = if name == "user.mine" { b"yes".to_vec() } else { acl.clone() };
        let set = setxattr(&f, name, &value, XattrFlags::empty()).is_ok();
        (name, value, set)
    });
    assert_eq!(report(&scratch, "f"), "--- status 0");
    let facts = fs::metadata(&f).unwrap();
    assert_eq!(facts.mode() & 0o7777, 0o640);
    assert!(facts.len() > 1000);
    for (name, value, set) in kept {
        let mut found = vec![0; 256];
        let length = getxattr(&f, name, &mut found[..]);
        // A file system without attributes has nothing to keep.
        assert_eq!(length.map(|length| found[..length].to_vec()).ok(), set.then_some(value), "{name}");
    }
}

#[test]
fn a_file_keeps_its_owner() {
    if !is_root("a_file_keeps_its_owner") {
        return;
    }
    let scratch = Scratch::with("p.yaml", POD).and("f", "x");
    let f = scratch.path().join("f");
    std::os::unix::fs::chown(&f, Some(65534), Some(7)).unwrap();
    fs::set_permissions(&f, fs::Permissions::from_mode(0o4600)).unwrap();
    assert_eq!(report(&scratch, "f"), "--- status 0");
    let facts = fs::metadata(&f).unwrap();
    assert_eq!((facts.uid(), facts.gid(), facts.mode() & 0o7777), (65534, 7, 0o4600));
    // Also the description that a remedy changes where it is.
    let compose = "services:\n  c: { image: i, user: '7:7', volumes: ['v:/v'] }\nvolumes: { v: {} }\n";
    let scratch = Scratch::with("c.yaml", compose).and(
        "s.yaml",
        "scene: 1\nworkloads: [c.yaml]\nimages: { i: { tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }] } }\nvolumes: { v: { tree: [{ path: /, kind: dir, owner: '0:500', mode: 0770 }] } }\n",
    );
    let f = scratch.path().join("c.yaml");
    std::os::unix::fs::chown(&f, Some(65534), Some(7)).unwrap();
    fs::set_permissions(&f, fs::Permissions::from_mode(0o600)).unwrap();
    let applied = scratch.run(["remedy", "s.yaml", "c creates /v/x", "-q", "--apply-to", "c.yaml"]);
    assert!(applied.ends_with("--- status 0"), "{applied}");
    let facts = fs::metadata(&f).unwrap();
    assert_eq!((facts.uid(), facts.gid(), facts.mode() & 0o7777), (65534, 7, 0o600));
    assert_ne!(fs::read_to_string(&f).unwrap(), compose);
}

#[test]
fn a_new_file_has_the_mode_of_a_redirect() {
    let scratch = Scratch::with("p.yaml", POD);
    let script = format!("umask 027; '{}' -q report p.yaml -o new", env!("CARGO_BIN_EXE_mivask"));
    assert!(Command::new("sh").args(["-c", &script]).current_dir(scratch.path()).status().unwrap().success());
    assert_eq!(fs::metadata(scratch.path().join("new")).unwrap().mode() & 0o7777, 0o640);
    assert_eq!(names(scratch.path()), ["new", "p.yaml"]);
}

#[test]
fn other_names_of_a_file_keep_what_was_there_and_that_is_said() {
    let scratch = Scratch::with("p.yaml", POD).and("f", "x");
    fs::hard_link(scratch.path().join("f"), scratch.path().join("g")).unwrap();
    let said = scratch.run(["report", "p.yaml", "-o", "f"]);
    assert!(
        said.contains("note: f is a new file now: its other name keeps what was written before"),
        "{said}"
    );
    assert_eq!(fs::read_to_string(scratch.path().join("g")).unwrap(), "x");
}

#[test]
fn links_are_followed_and_stay() {
    let scratch = Scratch::with("p.yaml", POD).and("d/f", "x");
    let at = |name: &str| scratch.path().join(name);
    symlink("d/f", at("to-file")).unwrap();
    symlink("d/new", at("to-nothing")).unwrap();
    symlink("none/new", at("to-no-folder")).unwrap();
    symlink("loop", at("loop")).unwrap();
    assert_eq!(report(&scratch, "to-file"), "--- status 0");
    assert_eq!(report(&scratch, "to-nothing"), "--- status 0");
    assert!(at("to-file").is_symlink() && at("to-nothing").is_symlink());
    assert!(["d/f", "d/new"].iter().all(|name| fs::metadata(at(name)).unwrap().len() > 1000));
    assert!(report(&scratch, "loop").contains("error: loop: Too many levels of symbolic links"));
    assert!(report(&scratch, "to-no-folder").contains("error: to-no-folder: No such file or directory"));
    assert!(at("loop").is_symlink() && at("to-no-folder").is_symlink());
    assert_eq!(names(&at("d")), ["f", "new"]);
}

/// The kernel's own check: a link in a sticky directory that everybody writes to is followed for its owner only.
#[test]
fn a_planted_link_is_followed_as_the_kernel_has_it() {
    if !is_root("a_planted_link_is_followed_as_the_kernel_has_it") {
        return;
    }
    let protected = fs::read_to_string("/proc/sys/fs/protected_symlinks").unwrap_or_default();
    let scratch = Scratch::with("p.yaml", POD).and("secret", "x").and("open/.keep", "");
    let at = |name: &str| scratch.path().join(name);
    fs::set_permissions(at("open"), fs::Permissions::from_mode(0o1777)).unwrap();
    symlink(at("secret"), at("open/l")).unwrap();
    std::os::unix::fs::lchown(at("open/l"), Some(65534), Some(65534)).unwrap();
    let said = report(&scratch, "open/l");
    if protected.trim() == "1" {
        assert!(said.contains("Permission denied"), "{said}");
        assert_eq!(fs::read_to_string(at("secret")).unwrap(), "x");
    } else {
        println!("skipped: the refusal: fs.protected_symlinks is not 1 here");
        assert_eq!(said, "--- status 0");
    }
}

#[test]
fn no_output_takes_the_place_of_an_input() {
    let scratch = Scratch::with("s.yaml", "scene: 1\nworkloads: [p.yaml]\nimages: { i: { from: i.tar } }\n")
        .and("p.yaml", POD);
    let mut tar = tar::Builder::new(Vec::new());
    let mut header = tar::Header::new_gnu();
    header.set_size(0);
    tar.append_data(&mut header, "bin/x", &b""[..]).unwrap();
    let scratch = scratch
        .and("i.tar", tar.into_inner().unwrap())
        .and("e", "c reads /x -> denied\n")
        .and("a", "c reads /x\n");
    fs::hard_link(scratch.path().join("p.yaml"), scratch.path().join("p2.yaml")).unwrap();
    symlink("s.yaml", scratch.path().join("link")).unwrap();
    let before: Vec<Vec<u8>> = ["s.yaml", "p.yaml", "i.tar", "e", "a"]
        .map(|name| fs::read(scratch.path().join(name)).unwrap())
        .into();
    for (words, file) in [
        (vec!["report", "s.yaml", "-o", "s.yaml"], "s.yaml"),
        (vec!["report", "s.yaml", "-o", "p.yaml"], "p.yaml"),
        (vec!["report", "s.yaml", "-o", "p2.yaml"], "p2.yaml"),
        (vec!["report", "s.yaml", "-o", "link"], "link"),
        (vec!["report", "s.yaml", "-o", "i.tar"], "i.tar"),
        (vec!["report", "s.yaml", "--acts", "a", "-o", "a"], "a"),
        (vec!["uphold", "s.yaml", "--expect", "e", "--also", "junit=e"], "e"),
        (vec!["survey", "i.tar", "-o", "i.tar"], "i.tar"),
    ] {
        let output = Command::new(env!("CARGO_BIN_EXE_mivask"))
            .args(&words)
            .arg("-q")
            .current_dir(scratch.path())
            .output()
            .unwrap();
        let said = String::from_utf8(output.stderr).unwrap();
        assert!(
            said.contains(&format!("error: {file} was read: name another file for the output")),
            "{words:?}: {said}"
        );
        assert_eq!(output.status.code(), Some(2), "{words:?}");
    }
    let after: Vec<Vec<u8>> = ["s.yaml", "p.yaml", "i.tar", "e", "a"]
        .map(|name| fs::read(scratch.path().join(name)).unwrap())
        .into();
    assert!(before == after);
}

#[test]
fn two_outputs_are_two_files() {
    let scratch = Scratch::with("s.yaml", BOATS).and("e", "mate writes /hold/log -> allowed\n");
    for other in ["sarif=./a", "sarif=a"] {
        let said = scratch.run(["uphold", "s.yaml", "--expect", "e", "--also", "junit=a", "--also", other]);
        assert!(
            said.contains("are one file: name another for one of them") && said.ends_with("status 2"),
            "{said}"
        );
    }
    assert_eq!(names(scratch.path()), ["e", "s.yaml"]);
    let both = scratch.run([
        "uphold",
        "s.yaml",
        "--expect",
        "e",
        "--also",
        "junit=/dev/null",
        "--also",
        "sarif=/dev/null",
    ]);
    assert!(both.ends_with("status 0"), "{both}");
}

#[test]
fn what_cannot_be_written_names_itself_and_leaves_nothing() {
    let scratch = Scratch::with("p.yaml", POD);
    assert!(report(&scratch, "/dev/full").contains("error: /dev/full: No space left on device"));
    assert!(report(&scratch, "none/x").contains("error: none/x: No such file or directory"));
    assert!(report(&scratch, ".").contains("error: .: Is a directory"));
    assert!(report(&scratch, "x/").contains("error: x/: is a directory"));
    assert!(report(&scratch, "p.yaml/x").contains("error: p.yaml/x: Not a directory"));
    assert_eq!(names(scratch.path()), ["p.yaml"]);
}

#[test]
fn what_a_killed_run_left_goes_with_the_next_and_nothing_else() {
    let scratch = Scratch::with("p.yaml", POD);
    for name in [".mivask-abc123", ".mivask-held12", ".mivask-longer-name", ".mivask", ".mivask-abc12/f"] {
        let path = scratch.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, "half").unwrap();
    }
    let held = fs::File::open(scratch.path().join(".mivask-held12")).unwrap();
    flock(&held, FlockOperation::LockExclusive).unwrap();
    assert_eq!(report(&scratch, "new"), "--- status 0");
    assert_eq!(
        names(scratch.path()),
        [".mivask", ".mivask-abc12", ".mivask-held12", ".mivask-longer-name", "new", "p.yaml"]
    );
}

/// Signals that end the program at any moment leave the old file or the new one, and no other.
#[test]
fn a_signal_leaves_no_file_behind() {
    let scratch = Scratch::with("p.yaml", POD).and("f", "old");
    for (round, signal) in
        [Signal::INT, Signal::TERM, Signal::HUP, Signal::KILL].iter().cycle().take(40).enumerate()
    {
        let mut child = Command::new(env!("CARGO_BIN_EXE_mivask"))
            .args(["-q", "report", "p.yaml", "-o", "f"])
            .current_dir(scratch.path())
            .stdin(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_micros(1500 * round as u64));
        let _ = kill_process(Pid::from_child(&child), *signal);
        child.wait().unwrap();
        let mut left = names(scratch.path());
        // What has no name goes with the program; only between a name and its place one can be left that nothing can take back.
        if *signal == Signal::KILL {
            left.retain(|name| !name.starts_with(".mivask-"));
        }
        assert_eq!(left, ["f", "p.yaml"], "round {round}");
        let text = fs::read_to_string(scratch.path().join("f")).unwrap();
        assert!(text == "old" || text.trim_end().ends_with("</html>"), "round {round}: {} bytes", text.len());
        fs::write(scratch.path().join("f"), "old").unwrap();
    }
}

/// A pipe whose reader comes late: written to, never replaced.
#[test]
fn a_pipe_is_written_to() {
    let scratch = Scratch::with("p.yaml", POD);
    let pipe = scratch.path().join("pipe");
    rustix::fs::mkfifoat(rustix::fs::CWD, &pipe, rustix::fs::Mode::from_raw_mode(0o600)).unwrap();
    let mut child = Command::new(env!("CARGO_BIN_EXE_mivask"))
        .args(["-q", "report", "p.yaml", "-o", "pipe"])
        .current_dir(scratch.path())
        .spawn()
        .unwrap();
    let mut text = String::new();
    fs::File::open(&pipe).unwrap().read_to_string(&mut text).unwrap();
    let begun = Instant::now();
    while child.try_wait().unwrap().is_none() && begun.elapsed() < Duration::from_secs(60) {
        std::thread::sleep(Duration::from_millis(5));
    }
    assert!(child.wait().unwrap().success() && text.trim_end().ends_with("</html>"));
    assert_eq!(names(scratch.path()), ["p.yaml", "pipe"]);
}
