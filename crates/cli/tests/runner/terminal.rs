//! What is between the program and whoever reads it: pager, quiet, log, completion, manual.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::path::Path;
use std::process::Command;

use crate::scratch::{BOATS, Scratch};

/// The folder of the program, for shells that are to find it.
fn path() -> std::ffi::OsString {
    let own = Path::new(env!("CARGO_BIN_EXE_mivask")).parent().unwrap().to_path_buf();
    let all = std::env::var_os("PATH").unwrap_or_default();
    std::env::join_paths(std::iter::once(own).chain(std::env::split_paths(&all))).unwrap()
}

fn shell(scratch: &Scratch, shell: &str, script: &str) -> String {
    let output = Command::new(shell)
        .args(["-c", script])
        .current_dir(scratch.path())
        .env("PATH", path())
        .env("PAGER", "sed 's/^/paged: /'")
        .env("TERM", "xterm")
        .env_remove("COLUMNS")
        .output()
        .unwrap();
    format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr))
}

/// Runs a command line on a terminal of so many lines.
fn on_terminal(scratch: &Scratch, lines: usize, command: &str) -> String {
    let script = format!("script -qec 'stty rows {lines} cols 120; {command}' /dev/null < /dev/null");
    shell(scratch, "sh", &script).replace("\r\n", "\n")
}

#[test]
fn what_is_longer_than_the_terminal_is_paged() {
    let scratch = Scratch::with("s.yaml", BOATS);
    let paged = on_terminal(&scratch, 8, "mivask access s.yaml --color never");
    assert!(paged.lines().filter(|line| line.starts_with("paged: ")).count() > 8, "{paged}");
    assert!(!paged.contains('\u{1b}'), "colour was not wanted: {paged}");
    let whole = on_terminal(&scratch, 200, "mivask access s.yaml");
    assert!(whole.contains("/hold") && !whole.contains("paged: "), "it fits: {whole}");
    assert!(whole.contains('\u{1b}'), "a terminal has colours");
    for quiet in
        ["mivask access s.yaml --pager never", "PAGER= mivask access s.yaml", "mivask access s.yaml | cat"]
    {
        let text = on_terminal(&scratch, 8, quiet);
        assert!(text.contains("/hold") && !text.contains("paged: "), "{quiet}: {text}");
    }
    // A reader who has seen enough is not an error.
    let left = on_terminal(&scratch, 8, "PAGER=\"head -n 1\" mivask access s.yaml; echo status $?");
    assert!(left.ends_with("status 0\n"), "{left}");
    let broken = on_terminal(&scratch, 8, "mivask uphold s.yaml --expect none.acts; echo status $?");
    assert!(broken.contains("none.acts") && broken.ends_with("status 2\n"), "{broken}");
}

#[test]
fn a_pager_that_is_not_there_swallows_nothing() {
    let scratch = Scratch::with("s.yaml", BOATS);
    for pager in ["nosuchpager", "/no/such/pager", "/etc/passwd"] {
        let text = on_terminal(&scratch, 8, &format!("PAGER={pager} mivask access s.yaml; echo status $?"));
        let whole = text.contains("/hold/old") && text.contains("stowaway");
        assert!(whole && text.ends_with("status 0\n"), "{pager}: {text}");
        assert_eq!(text.matches("/hold/old").count(), 2, "{pager}: {text}");
    }
}

#[test]
fn no_color_is_obeyed() {
    let scratch = Scratch::with("s.yaml", BOATS);
    assert!(!on_terminal(&scratch, 200, "NO_COLOR=1 mivask access s.yaml").contains('\u{1b}'));
}

#[test]
fn quiet_leaves_out_what_is_no_answer_and_no_error() {
    let odd = BOATS.replace("umask: '0002'", "umsk: '0002'");
    let scratch = Scratch::with("s.yaml", &odd);
    let loud = scratch.run(["identity", "s.yaml", "--actor", "cook"]);
    assert!(loud.contains("unknown key `umsk`"), "{loud}");
    let quiet = scratch.run(["identity", "s.yaml", "--actor", "cook", "--quiet"]);
    assert!(!quiet.contains("standard error") && quiet.ends_with("status 0"), "{quiet}");
    let wrong = scratch.run(["-q", "identity", "s.yaml", "--actor", "cok"]);
    assert!(wrong.contains("there is no actor `cok`") && !wrong.contains("umsk"), "{wrong}");
}

#[test]
fn verbose_says_what_is_read() {
    let scratch = Scratch::with("s.yaml", BOATS);
    let once = scratch.run(["ask", "s.yaml", "mate writes /hold/log", "-v"]);
    assert!(once.contains("info: s.yaml: 3 actors staged in ") && !once.contains("debug: "), "{once}");
    let twice = scratch.run(["ask", "s.yaml", "mate writes /hold/log", "-vv"]);
    assert!(twice.contains("debug: read") && twice.starts_with("allowed"), "{twice}");
    let both = scratch.run(["ask", "s.yaml", "mate writes /hold/log", "-vq"]);
    assert!(both.contains("cannot be used with"), "{both}");
}

/// The words a shell offers for the last one of a command line.
fn offered(scratch: &Scratch, words: &[&str]) -> Vec<String> {
    let output = Command::new(env!("CARGO_BIN_EXE_mivask"))
        .env("MIVASK_COMPLETE", "fish")
        .args(["--", "mivask"])
        .args(words)
        .current_dir(scratch.path())
        .output()
        .unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    text.lines().map(|line| line.split('\t').next().unwrap().to_owned()).collect()
}

#[test]
fn actors_paths_and_acts_of_the_scene_are_completed() {
    let scratch = Scratch::with("s.yaml", BOATS);
    assert_eq!(offered(&scratch, &["upho"]), ["uphold"]);
    assert_eq!(offered(&scratch, &["access", "s.yaml", "--actor", "sto"]), ["stowaway"]);
    assert_eq!(offered(&scratch, &["access", "s.yaml", "/hold/k"]), ["/hold/keys/"]);
    assert_eq!(offered(&scratch, &["why", "s.yaml", "co"]), ["cook"]);
    assert_eq!(offered(&scratch, &["why", "s.yaml", "cook del"]), ["cook deletes"]);
    assert_eq!(offered(&scratch, &["why", "s.yaml", "cook bec"]), Vec::<String>::new(), "that is not an act");
    assert_eq!(offered(&scratch, &["why", "s.yaml", "cook reads /stores/l"]), ["cook reads /stores/log"]);
    // Nothing is said of a scene that cannot be read.
    let broken = Scratch::with("s.yaml", "scene: [");
    assert_eq!(offered(&broken, &["access", "s.yaml", "--actor", "m"]), Vec::<String>::new());
}

#[test]
fn every_shell_gets_what_it_needs() {
    let scratch = Scratch::with("s.yaml", BOATS);
    for shell in ["bash", "zsh", "fish", "elvish", "powershell"] {
        let script = scratch.run(["completions", shell]);
        assert!(script.contains("MIVASK_COMPLETE") && script.ends_with("status 0"), "{shell}: {script}");
    }
    let script = "source <(mivask completions bash) && COMP_WORDS=(mivask access s.yaml --actor ma) COMP_CWORD=4 COMP_TYPE=9 && \
                  _clap_complete_mivask mivask ma --actor && echo \"${COMPREPLY[@]}\"";
    assert_eq!(shell_line(&scratch, script), "mate");
}

fn shell_line(scratch: &Scratch, script: &str) -> String {
    shell(scratch, "bash", script).trim().to_owned()
}

#[test]
fn there_is_a_manual_page_for_every_command() {
    let scratch = Scratch::with("s.yaml", BOATS);
    assert_eq!(scratch.run(["manual", "--to", "man"]), "--- status 0");
    let read = |name: &str| std::fs::read_to_string(scratch.path().join("man").join(name)).unwrap();
    let help = scratch.run(["--help"]);
    for page in ["mivask-uphold.1", "mivask-access.1", "mivask.1"] {
        assert!(read(page).starts_with(".ie") && read(page).contains(".SH NAME"), "{page}");
    }
    let count = std::fs::read_dir(scratch.path().join("man")).unwrap().count();
    let listed = help
        .lines()
        .filter(|line| line.starts_with("  ") && line.as_bytes().get(2).is_some_and(u8::is_ascii_lowercase));
    assert_eq!(count, listed.count() + 1, "one each, and one for the whole");
    assert!(read("mivask-uphold.1").contains("house\\-rules.acts"), "with its examples");
}

#[test]
fn a_slip_of_the_pen_is_bridged() {
    let scratch = Scratch::with("s.yaml", BOATS);
    assert!(scratch.run(["acess", "s.yaml"]).contains("a similar subcommand exists: 'access'"));
    assert!(
        scratch.run(["access", "s.yaml", "--actr", "mate"]).contains("a similar argument exists: '--actor'")
    );
    assert!(scratch.run(["access", "s.yaml", "--actor", "mat"]).contains("did you mean `mate`?"));
}
