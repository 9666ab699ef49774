//! Symbolic changes of a mode beside the system's own chmod, and what is created beside mkdir and the shell.

use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::Command;

use fastrand::Rng;
use mivask_core::mode::{FileKind, Mode, ModeChange};
use mivask_core::question::decode;

/// Runs a line of the shell in `directory` under `umask`.
fn shell(directory: &Path, umask: u16, line: &str) {
    let output = Command::new("sh")
        .args(["-c", &format!("umask {umask:04o}; {line}")])
        .current_dir(directory)
        .env("LC_ALL", "C")
        .output()
        .expect("a shell");
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    // chmod is displeased where the umask kept something back, and does it nevertheless.
    assert!(output.status.success() || said.contains("new permissions are"), "{line}: {said}");
}

fn mode_of(path: &Path) -> u16 {
    let bits = std::fs::symlink_metadata(path).expect("what was made").permissions().mode() & 0o7777;
    u16::try_from(bits).expect("twelve bits")
}

/// A symbolic change such as `ug+rX-w,o=u`; `s` and `t` where POSIX says what they mean.
fn random_change(rng: &mut Rng) -> String {
    let clauses: Vec<String> = (0..rng.usize(1..4))
        .map(|_| {
            let who = ["", "u", "g", "o", "a", "ug", "go", "uo"][rng.usize(..8)];
            let mut clause = who.to_owned();
            for _ in 0..rng.usize(1..3) {
                clause.push(['+', '-', '='][rng.usize(..3)]);
                if rng.u8(..5) == 0 {
                    clause.push(['u', 'g', 'o'][rng.usize(..3)]);
                    continue;
                }
                let letters = "rwxX".chars().filter(|_| rng.bool()).collect::<String>();
                clause.push_str(&letters);
                if matches!(who, "u" | "g" | "a" | "ug") && rng.u8(..4) == 0 {
                    clause.push('s');
                }
                if who == "a" && rng.u8(..4) == 0 {
                    clause.push('t');
                }
            }
            clause
        })
        .collect();
    clauses.join(",")
}

#[test]
fn symbolic_changes_do_what_chmod_does() {
    let folder = tempfile::tempdir().expect("a temporary directory");
    let (file, directory) = (folder.path().join("file"), folder.path().join("directory"));
    std::fs::write(&file, "").expect("a file");
    std::fs::create_dir(&directory).expect("a directory");
    let mut rng = Rng::with_seed(0xc406);
    let mut wrong = Vec::new();
    for _ in 0..600 {
        let (path, is_directory) = if rng.bool() { (&file, false) } else { (&directory, true) };
        let before = rng.u16(..0o10000);
        let umask = *rng.choice(&[0o022, 0o002, 0o077, 0o027, 0o000]).unwrap_or(&0o022);
        std::fs::set_permissions(path, PermissionsExt::from_mode(u32::from(before))).expect("to set it");
        let held = mode_of(path);
        let text = random_change(&mut rng);
        // `--` since a clause may begin with a minus.
        shell(folder.path(), umask, &format!("chmod -- {text} {}", path.display()));
        let change: ModeChange = text.parse().expect(&text);
        let meant = change.applied_to(Mode::new(held), is_directory, Mode::new(umask));
        if meant.bits() != mode_of(path) {
            wrong.push(format!(
                "{text} on {held:04o}, directory {is_directory}, umask {umask:04o}: {meant}, chmod {:04o}",
                mode_of(path)
            ));
        }
        assert_eq!(change.to_string().parse(), Ok(change.clone()), "{text} reads back");
    }
    assert!(wrong.is_empty(), "{} of 600:\n{}", wrong.len(), wrong.join("\n"));
}

#[test]
fn what_a_umask_leaves_is_what_is_created() {
    let folder = tempfile::tempdir().expect("a temporary directory");
    for umask in [0o000_u16, 0o002, 0o022, 0o027, 0o077, 0o117, 0o777] {
        let made_with = |mode: u16, kind: FileKind| {
            decode(Mode::new(mode), kind, None, Some(Mode::new(umask))).created[0].1.bits()
        };
        shell(folder.path(), umask, "rm -rf f d; mkdir d; : >f");
        let made = (mode_of(&folder.path().join("f")), mode_of(&folder.path().join("d")));
        let meant = (made_with(0o666, FileKind::File), made_with(0o777, FileKind::Directory));
        assert_eq!(meant, made, "umask {umask:04o}");
    }
}
