//! What the engine's AppArmor profile denies, held against the texts in the programs of Docker and Podman that are installed
//! here, compiled by `apparmor_parser`: the automaton it makes is walked for each path.
#![expect(clippy::unwrap_used, reason = "a test that runs tools")]

use std::collections::{BTreeMap, BTreeSet};
use std::process::Command;

use mivask_rules::profile::{Letters, denies};

/// Where programs that hold such a text are.
const PROGRAMS: [&str; 3] = ["/usr/sbin/dockerd", "/usr/bin/dockerd", "/usr/bin/podman"];

/// Permissions of the file's owner in the parser's dump, and the letters here (`AA_MAY_*`, security/apparmor/include/perms.h).
const BITS: [(u32, Letters); 3] = [(4, Letters::READ), (2, Letters::WRITE), (1, Letters::RUN)];
const LINK: u32 = 0x10;

/// Parts that paths are made of: what rules name, what is near it, and anything else.
const PARTS: [&str; 24] = [
    "sys",
    "fs",
    "cgroup",
    "cg",
    "cx",
    "c",
    "fuse",
    "firmware",
    "kernel",
    "security",
    "shmmax",
    "sh",
    "sysrq-trigger",
    "kcore",
    "kcorex",
    "17",
    "1a",
    "self",
    "sy",
    "tty",
    "bus",
    "9",
    "ab",
    "devices",
];

#[test]
fn the_profiles_of_installed_engines_deny_what_is_said() {
    let mut compared = 0;
    for program in PROGRAMS {
        let Ok(bytes) = std::fs::read(program) else { continue };
        let rules = file_rules(&bytes);
        if rules.is_empty() {
            continue;
        }
        let Some(states) = compiled(&rules) else { return };
        compared += 1;
        agreed(program, &rules);
        let differ =
            paths().into_iter().filter_map(|path| difference(&states, &rules, &path)).collect::<Vec<_>>();
        assert!(
            differ.is_empty(),
            "{program}: {} differ, such as {:?}",
            differ.len(),
            &differ[..differ.len().min(5)]
        );
    }
    if compared == 0 {
        skipped("no program of Docker or Podman is here");
    }
}

#[expect(clippy::print_stdout, reason = "what was compared is part of the tests' record")]
fn agreed(program: &str, rules: &[String]) {
    println!("{program}: {} rules about files, {} paths", rules.len(), paths().len());
}

#[expect(clippy::print_stdout, reason = "a test that skips says so")]
fn skipped(why: &str) {
    println!("skipped: profiles of engines: {why}");
}

/// The rules about files in the text that `program` makes profiles of.
fn file_rules(program: &[u8]) -> Vec<String> {
    let head = b"flags=(attach_disconnected,mediate_deleted) {";
    let Some(start) = program.windows(head.len()).position(|part| part == head) else { return Vec::new() };
    let text = &program[start + head.len()..];
    let end = text.windows(3).position(|part| part == b"\n}\n").unwrap_or(0);
    let text = String::from_utf8_lossy(&text[..end]).into_owned();
    let is_rule =
        |line: &&str| *line == "file," || line.starts_with("deny @{PROC}") || line.starts_with("deny /");
    text.lines().map(str::trim).filter(is_rule).map(ToOwned::to_owned).collect()
}

/// A state of the automaton.
#[derive(Default)]
struct State {
    allowed: u32,
    bytes: BTreeMap<u8, u32>,
    /// Every byte but these.
    all_but: Option<(BTreeSet<u8>, u32)>,
    otherwise: Option<u32>,
}

fn compiled(rules: &[String]) -> Option<BTreeMap<u32, State>> {
    let folder = std::env::temp_dir().join(format!("mivask-profiles-{}", std::process::id()));
    std::fs::create_dir_all(&folder).unwrap();
    let file = folder.join("profile");
    let text =
        format!("@{{PROC}}=/proc/\nprofile made flags=(attach_disconnected) {{\n{}\n}}\n", rules.join("\n"));
    std::fs::write(&file, text).unwrap();
    let made = Command::new("apparmor_parser").args(["-Q", "-K", "--dump=dfa-states"]).arg(&file).output();
    std::fs::remove_dir_all(&folder).unwrap();
    let Ok(made) = made else {
        skipped("apparmor_parser is not here");
        return None;
    };
    let dump = String::from_utf8([made.stdout, made.stderr].concat()).unwrap();
    Some(states(&dump))
}

fn states(dump: &str) -> BTreeMap<u32, State> {
    let number = |text: &str| text.trim_matches(['{', '}']).parse::<u32>().unwrap();
    let mut states: BTreeMap<u32, State> = BTreeMap::new();
    let mut at = 0;
    for line in dump.lines() {
        if let Some((state, permissions)) = line.split_once(" perms:") {
            at = number(state);
            let hex = permissions.trim().strip_prefix("(0x ").and_then(|rest| rest.split('/').next());
            let allowed = hex.map_or(0, |hex| u32::from_str_radix(hex, 16).unwrap());
            states.insert(at, State { allowed, ..State::default() });
        } else if let Some((when, to)) = line.strip_prefix("    ").and_then(|rest| rest.split_once(" -> ")) {
            let to = number(to.split(' ').next().unwrap());
            let state = states.get_mut(&at).unwrap();
            match when {
                "[]" => state.otherwise = Some(to),
                set if set.starts_with("[^") => state.all_but = Some((bytes(&set[2..set.len() - 1]), to)),
                one => {
                    let hex = one.rsplit("0x").next().unwrap();
                    state.bytes.insert(u8::from_str_radix(hex, 16).unwrap(), to);
                }
            }
        }
    }
    states
}

/// The bytes of a set, `\x0` among them.
fn bytes(set: &str) -> BTreeSet<u8> {
    let rest = set.strip_prefix("\\x0");
    rest.map(|_| 0).into_iter().chain(rest.unwrap_or(set).bytes()).collect()
}

/// What is allowed at the end of `path`.
fn allowed(states: &BTreeMap<u32, State>, path: &[u8]) -> u32 {
    let end = path.iter().try_fold(1, |at, byte| {
        let state = &states[&at];
        let all_but = state.all_but.as_ref().filter(|(set, _)| !set.contains(byte)).map(|(_, to)| *to);
        state.bytes.get(byte).copied().or(all_but).or(state.otherwise)
    });
    end.map_or(0, |end| states[&end].allowed)
}

/// What our table says otherwise than the automaton.
fn difference(states: &BTreeMap<u32, State>, rules: &[String], path: &str) -> Option<String> {
    let bits = allowed(states, path.as_bytes());
    let pair = allowed(states, &[path.as_bytes(), b"\0/x"].concat());
    let letters = BITS.into_iter().map(|(bit, letters)| (bits & bit == 0, letters));
    letters.chain([(pair & LINK == 0, Letters::LINK)]).find_map(|(denied, letters)| {
        let rule = denies(path.as_bytes(), letters);
        // What newer engines alone deny is left out where this one has no such rule.
        let newer = rule.is_some_and(|rule| rule.contains("powercap"));
        let said = rule.is_some() && (!newer || rules.iter().any(|rule| rule.contains("powercap")));
        (said != denied).then(|| format!("{path} {letters:?}: {denied} there, {rule:?} here"))
    })
}

/// Every path of up to four of the parts below `/proc` and `/sys`, as files and as directories.
fn paths() -> Vec<String> {
    let mut all = vec!["/proc".to_owned(), "/sys".to_owned()];
    let mut last = all.clone();
    for _ in 0..3 {
        last = last.iter().flat_map(|path| PARTS.map(|part| format!("{path}/{part}"))).collect();
        all.extend(last.iter().cloned());
    }
    let known = [
        "/proc/sys/kernel/shm",
        "/sys/fs/cgroup/a/b",
        "/sys/devices/virtual/powercap/x",
        "/sys/fs/cgroup",
        "/srv/sys/a/b",
    ];
    all.extend(known.map(ToOwned::to_owned));
    let directories = all.iter().map(|path| format!("{path}/")).collect::<Vec<_>>();
    all.extend(directories);
    all
}
