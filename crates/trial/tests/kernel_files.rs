//! What proc, sysfs, devpts and mqueue let be made, removed and renamed, against the running kernel.
//!
//! Ordinary tools act on fresh mounts in a mount namespace of their own, as root and as another user. Where root is missing
//! each file system says `skipped` and why.

#![expect(clippy::print_stdout, reason = "CI counts the lines that say `skipped`")]

use std::collections::BTreeSet;
use std::process::Command;

use mivask_core::act::parse_act;
use mivask_core::prepare;
use mivask_core::question::{Answer, ask};
use mivask_core::settle::Outcome;
use mivask_core::stage::Stage;
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{Disk, Origin};
use mivask_read::scene_file::read_scene;
use mivask_read::text::SourceText;
use mivask_read::yaml;

/// An act below the mount, `@` in paths, and a command for the same system call.
const ACTS: [(&str, &str); 9] = [
    ("creates @/new", "set -C; : > @/new && unlink @/new"),
    ("extends @/new", ": >> @/new && unlink @/new"),
    ("makes-directory @/new", "mkdir @/new && rmdir @/new"),
    ("makes-fifo @/new", "mkfifo @/new && unlink @/new"),
    ("points @/new at target", "ln -sT target @/new && unlink @/new"),
    ("links @/old to @/new", "ln -T @/old @/new && unlink @/new"),
    ("renames @/old to @/new", "mv -nT @/old @/new"),
    ("deletes @/old", "unlink @/old"),
    ("removes-directory @/directory", "rmdir @/directory"),
];

/// A file system: its type, where a container has it, a file and a directory that every kernel has in it; queues there are
/// none.
struct Mounted {
    kind: &'static str,
    at: &'static str,
    old: &'static str,
    directory: &'static str,
}

const ALL: [Mounted; 4] = [
    Mounted { kind: "proc", at: "/proc", old: "version", directory: "sys" },
    Mounted { kind: "sysfs", at: "/sys", old: "kernel/uevent_seqnum", directory: "firmware" },
    Mounted { kind: "devpts", at: "/dev/pts", old: "ptmx", directory: "ptmx" },
    Mounted { kind: "mqueue", at: "/dev/mqueue", old: "old", directory: "old" },
];

fn stage() -> Stage {
    let text = "scene: 1\nruntime: docker\nimages: { i: { tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }] } }\n\
                containers:\n  - { name: root, image: i, user: '0:0', privileged: true }\n  - { name: other, image: i, user: '7101:7200', \
                privileged: true }\n";
    let source = SourceText::new("kernel.yaml", text);
    let mut diagnostics = Diagnostics::default();
    let nodes = yaml::parse(&source, &mut diagnostics);
    let scene = read_scene(&nodes[0], &source, &Origin::Standard, &Disk, &mut diagnostics);
    assert!(diagnostics.is_empty(), "{text}");
    prepare::stage(&scene.expect("a scene"))
}

/// How every act ends in reality, in the order of [`ACTS`]: `OK` or the name of an errno.
fn really(mounted: &Mounted, uid: u32, gid: u32) -> Result<Vec<String>, String> {
    if let Some(reason) = mivask_kernel::unavailable() {
        return Err(reason);
    }
    let folder = tempfile::tempdir().map_err(|error| error.to_string())?;
    let at = folder.path().display();
    let Mounted { kind, old, directory, .. } = mounted;
    let mut script = format!("chmod 0755 {at} && mount -t {kind} {kind} {at} || exit 9\n");
    for (_, command) in ACTS {
        let command =
            command.replace("/old", &format!("/{old}")).replace("/directory", &format!("/{directory}"));
        let command = command.replace('@', &at.to_string());
        script.push_str(&format!(
            "setpriv --reuid {uid} --regid {gid} --clear-groups -- sh -c '{command}' 2>&1 && echo OK; echo ==\n"
        ));
    }
    let mut unshare = Command::new("unshare");
    let run = unshare.args(["--mount", "--propagation", "private", "sh", "-c", &script]).env("LC_ALL", "C");
    let output = run.output().map_err(|error| format!("unshare: {error}"))?;
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    if output.status.code() == Some(9) {
        return Err(format!("mounting {kind}: {}", String::from_utf8_lossy(&output.stderr)));
    }
    let words = [
        ("Operation not permitted", "EPERM"),
        ("Permission denied", "EACCES"),
        // What dash says of a file that cannot be made for want of a name.
        ("nonexistent", "ENOENT"),
        ("No such file", "ENOENT"),
        ("Read-only", "EROFS"),
        ("Not a directory", "ENOTDIR"),
        ("File exists", "EEXIST"),
    ];
    let ended = |text: &str| match words.iter().find(|(word, _)| text.contains(word)) {
        Some((_, errno)) => (*errno).to_owned(),
        None => text.trim().to_owned(),
    };
    let all: Vec<String> = said.split("==\n").take(ACTS.len()).map(ended).collect();
    assert_eq!(all.len(), ACTS.len(), "{said}");
    Ok(all)
}

/// Every way an answer may end, in the same words.
fn possible(answer: &Answer) -> BTreeSet<String> {
    let errno = |errno: Option<mivask_core::Errno>| {
        errno.map_or_else(|| "OK".to_owned(), |errno| errno.name().to_owned())
    };
    if answer.depends_on.is_empty() {
        return BTreeSet::from([errno(answer.outcome.errno())]);
    }
    answer.depends_on.iter().map(|one| errno(one.end.errno())).collect()
}

fn agree(mounted: &Mounted) {
    let stage = stage();
    for (name, uid, gid) in [("root", 0, 0), ("other", 7101, 7200)] {
        let ended = match really(mounted, uid, gid) {
            Ok(ended) => ended,
            Err(reason) => {
                println!("skipped: {}: {reason}", mounted.kind);
                return;
            }
        };
        for ((act, _), ended) in ACTS.iter().zip(ended) {
            let act = act.replace("/old", &format!("/{}", mounted.old));
            let act = act.replace("/directory", &format!("/{}", mounted.directory)).replace('@', mounted.at);
            let answer =
                ask(&stage, &parse_act(&format!("{name} {act}")).expect("an act")).expect("an actor");
            let possible = possible(&answer);
            assert!(possible.contains(&ended), "{}: {possible:?}, really {ended}", answer.act);
            // A file that is not listed may be there, and be open to all; nothing else is left open.
            if ended != "OK" && !act.starts_with("extends") {
                assert!(matches!(answer.outcome, Outcome::Denied(_)), "{}: {:?}", answer.act, answer.outcome);
            }
            if mounted.kind == "mqueue" {
                assert_eq!(possible.len(), 1, "{}: {possible:?}", answer.act);
            }
        }
    }
}

#[test]
fn nothing_is_made_in_proc() {
    agree(&ALL[0]);
}

#[test]
fn nothing_is_made_in_sysfs() {
    agree(&ALL[1]);
}

#[test]
fn nothing_is_made_among_terminals() {
    agree(&ALL[2]);
}

#[test]
fn only_queues_are_made_among_queues() {
    agree(&ALL[3]);
}
