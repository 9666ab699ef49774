//! Every flag with every command: it ends, whatever is logged meanwhile.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::collections::BTreeSet;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::scratch::{BOATS, Scratch};

/// A program that is still running then waits for something that does not come.
const LIMIT: Duration = Duration::from_secs(120);

/// Each command with what it cannot do without.
const COMMANDS: [&[&str]; 21] = [
    &["identity", "s.yaml"],
    &["mounts", "s.yaml"],
    &["access", "s.yaml"],
    &["ask", "s.yaml", "mate writes /hold/log"],
    &["why", "s.yaml", "mate writes /hold/log"],
    &["imprint", "s.yaml"],
    &["rehearse", "s.yaml", "mate writes /hold/log"],
    &["compare", "s.yaml", "s.yaml"],
    &["handoff", "s.yaml"],
    &["admits", "s.yaml", "/hold/log"],
    &["exposure", "s.yaml"],
    &["remedy", "s.yaml", "cook reads /stores/keys/id_rsa"],
    &["uphold", "s.yaml", "s.yaml", "--expect", "e"],
    &["report", "s.yaml", "-o", "out.html"],
    &["survey", "s.yaml.d", "--to", "mtree"],
    &["confirm", "s.yaml", "mate writes /hold/log"],
    &["decode", "0644"],
    &["schema"],
    &["completions", "bash"],
    &["manual", "--to", "pages"],
    &["demo"],
];

fn start(scratch: &Scratch, words: &[&str], flags: &[&str]) -> Child {
    let mut command = Command::new(env!("CARGO_BIN_EXE_mivask"));
    command.args(words).args(flags).current_dir(scratch.path()).env("TMPDIR", scratch.path());
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
}

/// The exit status, or `None` where it had to be stopped.
fn ended(mut child: Child) -> Option<i32> {
    let begun = Instant::now();
    while begun.elapsed() < LIMIT {
        if let Some(status) = child.try_wait().unwrap() {
            return Some(status.code().unwrap_or(-1));
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    None
}

/// The flags of a command that take no value, as its help has them.
fn flags(command: &str) -> BTreeSet<String> {
    let output = Command::new(env!("CARGO_BIN_EXE_mivask")).args([command, "--help"]).output().unwrap();
    let help = String::from_utf8(output.stdout).unwrap();
    let lines = help.lines().map(str::trim).filter(|line| line.starts_with('-') && !line.contains('<'));
    let names = lines.filter_map(|line| line.split([' ', ',']).find(|word| word.starts_with("--")));
    // They stay until they are stopped.
    names
        .map(|name| name.trim_end_matches("...").to_owned())
        .filter(|name| name != "--watch" && name != "--interactive")
        .collect()
}

#[test]
fn every_command_ends_with_every_flag() {
    let scratch =
        Scratch::with("s.yaml", BOATS).and("e", "mate writes /hold/log -> allowed\n").and("s.yaml.d/f", "x");
    let mut tried = 0;
    for words in COMMANDS {
        let mut sets: Vec<Vec<String>> = flags(words[0]).into_iter().map(|flag| vec![flag]).collect();
        assert!(sets.len() >= 4, "{}: its help lists {sets:?}", words[0]);
        let of = |flags: &[&str]| flags.iter().map(|flag| (*flag).to_owned()).collect();
        sets.extend([
            of(&["-v"]),
            of(&["-vv"]),
            of(&["-q", "--all-assumptions"]),
            of(&["--color", "always", "-vv"]),
        ]);
        sets.extend([of(&["--pager", "never", "--color", "never"])]);
        let running: Vec<_> = sets
            .iter()
            .map(|flags| {
                let flags: Vec<&str> = flags.iter().map(String::as_str).collect();
                (flags.join(" "), start(&scratch, words, &flags))
            })
            .collect();
        for (flags, child) in running {
            let status = ended(child);
            assert!(matches!(status, Some(0..=3)), "mivask {} {flags}: {status:?}", words.join(" "));
            tried += 1;
        }
    }
    assert!(tried > 150, "{tried}");
}
