//! Random small worlds, as scene files: a tree at `/`, another mounted in it, and one actor `x`.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::fmt::Write;

use fastrand::Rng;
use mivask_core::act::{Act, Verb};
use mivask_core::mode::Mode;
use mivask_core::prepare;
use mivask_core::stage::Stage;
use mivask_read::input::{Disk, Origin};
use mivask_read::scene_file::read_scene;
use mivask_read::slip::Slips;
use mivask_read::text::SourceText;
use mivask_read::yaml;

use crate::support::settings;

const NAMES: [&str; 4] = ["a", "b", "c", "d"];
// An 8 is no octal digit, so ids can be told from modes in the text.
const UIDS: [u32; 3] = [0, 8101, 8102];
const GIDS: [u32; 3] = [0, 8200, 8300];
const CAPABILITIES: [&str; 5] = ["DAC_OVERRIDE", "DAC_READ_SEARCH", "FOWNER", "FSETID", "CHOWN"];

/// A world under construction: the scene file's lines, and the paths it has.
struct World<'r> {
    rng: &'r mut Rng,
    tree: String,
    paths: Vec<String>,
}

impl World<'_> {
    fn pick<T: Copy>(&mut self, choices: &[T]) -> T {
        choices[self.rng.usize(..choices.len())]
    }

    fn one_in(&mut self, n: usize) -> bool {
        self.rng.usize(..n) == 0
    }

    fn mode(&mut self, directory: bool) -> u16 {
        // Closed directories hide everything below them, so most are open to somebody.
        let classes: &[u16] =
            if directory { &[7, 7, 7, 5, 5, 3, 1, 4, 6, 0] } else { &[6, 6, 4, 7, 5, 0, 2, 1, 3] };
        let nine = (self.pick(classes) << 6) | (self.pick(classes) << 3) | self.pick(classes);
        let special = if self.one_in(4) { self.rng.u16(..8) << 9 } else { 0 };
        special | nine
    }

    fn acl(&mut self) -> String {
        let permissions = ["---", "r--", "rw-", "r-x", "rwx", "-wx", "--x"];
        let mut entries = vec![format!("mask::{}", self.pick(&permissions))];
        for uid in [8101, 8102] {
            if self.rng.bool() {
                entries.push(format!("user:{uid}:{}", self.pick(&permissions)));
            }
        }
        for gid in [8200, 8300] {
            if self.rng.bool() {
                entries.push(format!("group:{gid}:{}", self.pick(&permissions)));
            }
        }
        entries.join(",")
    }

    fn target(&mut self) -> String {
        match self.rng.usize(..4) {
            0 => self.pick(&NAMES).to_owned(),
            1 => format!("../{}", self.pick(&NAMES)),
            2 => format!("/{}/{}", self.pick(&NAMES), self.pick(&NAMES)),
            _ => self.paths[self.rng.usize(..self.paths.len())].clone(),
        }
    }

    fn entry(&mut self, path: &str, depth: usize) {
        let directory = depth == 0 || (depth < 3 && self.one_in(2));
        let kind = match self.rng.usize(..20) {
            _ if directory => "dir",
            0..3 => "link",
            3 => "fifo",
            4 => "socket",
            5 => "char",
            _ => "file",
        };
        let owner = format!("{}:{}", self.pick(&UIDS), self.pick(&GIDS));
        let mode = if depth == 0 { 0o755 } else { self.mode(directory) };
        let mut line = format!("{{ path: {path}, kind: {kind}, owner: '{owner}'");
        let facts = &mut line;
        match kind {
            "link" => write!(facts, ", target: {}", self.target()).unwrap(),
            "char" => write!(facts, ", mode: {mode:04o}, device: '1:3'").unwrap(),
            "file" => {
                write!(facts, ", mode: {mode:04o}, content: {}", self.pick(&["program", "data", "empty"]))
                    .unwrap()
            }
            _ => write!(facts, ", mode: {mode:04o}").unwrap(),
        }
        if kind != "link" && depth > 0 && self.one_in(4) {
            write!(facts, ", acl: '{}'", self.acl()).unwrap();
        }
        if directory && self.one_in(5) {
            write!(facts, ", default-acl: 'user::rwx,group::r-x,other::r--,{}'", self.acl()).unwrap();
        }
        if depth > 0 && matches!(kind, "dir" | "file") && self.one_in(12) {
            write!(facts, ", flags: [{}]", self.pick(&["immutable", "append-only"])).unwrap();
        }
        writeln!(self.tree, "      - {line} }}").unwrap();
        self.paths.push(path.to_owned());
        if directory {
            for name in NAMES {
                if depth == 0 || self.one_in(2) {
                    self.entry(&format!("{}/{name}", path.trim_end_matches('/')), depth + 1);
                }
            }
        }
    }
}

/// A scene file with one actor `x`, and the paths worth trying.
pub(crate) fn scene(rng: &mut Rng) -> (String, Vec<String>) {
    let mut world = World { rng, tree: String::new(), paths: vec!["/".to_owned()] };
    world.entry("/", 0);
    let main = std::mem::take(&mut world.tree);
    // The mount point must be a directory; one of the first level nearly always is.
    let at = NAMES
        .iter()
        .map(|name| format!("/{name}"))
        .find(|path| main.contains(&format!("{{ path: {path}, kind: dir")));
    world.entry("/", 0);
    let side = std::mem::take(&mut world.tree);
    let cold = world.one_in(6);
    let mut text = format!(
        "scene: 1\nvolumes:\n  main:\n    filesystem: tmpfs\n    tree:\n{main}  side:\n    filesystem: tmpfs\n    \
         read-only-filesystem: {cold}\n    tree:\n{side}containers:\n  - name: x\n    mounts:\n      - {{ volume: main, at: / }}\n"
    );
    if let Some(at) = at {
        let flags = ["ro", "noexec", "nodev", "nosymfollow", "nosuid"];
        let options: Vec<&str> = flags.into_iter().filter(|_| world.one_in(4)).collect();
        writeln!(text, "      - {{ volume: side, at: {at}, options: [{}] }}", options.join(", ")).unwrap();
        let below: Vec<String> = world.paths.iter().map(|path| format!("{at}{path}")).collect();
        world.paths.extend(below);
    }
    let (uid, gid) = (world.pick(&[0, 8101, 8102, 8900]), world.pick(&[0, 8200, 8300, 8900]));
    let groups: Vec<String> =
        GIDS.into_iter().filter(|_| world.one_in(3)).map(|gid| gid.to_string()).collect();
    let held: Vec<&str> = CAPABILITIES.into_iter().filter(|_| world.one_in(4)).collect();
    let held = if world.one_in(8) { "all".to_owned() } else { format!("[{}]", held.join(", ")) };
    let umask = world.pick(&["0022", "0077", "0002", "0000", "0027"]);
    write!(text, "    user: '{uid}:{gid}'\n    groups: [{}]\n    umask: '{umask}'\n", groups.join(", "))
        .unwrap();
    writeln!(text, "    no-new-privileges: {}\n    effective-capabilities: {held}", world.one_in(4)).unwrap();
    let paths = world.paths;
    (text, paths)
}

pub(crate) fn act(rng: &mut Rng, paths: &[String]) -> Act {
    let mut path = paths[rng.usize(..paths.len())].clone();
    match rng.usize(..24) {
        0..5 => path.push_str("/new"),
        5 => path.push_str("/a"),
        6 => path.push('/'),
        7 => path.push_str("/../b"),
        8 => path.push_str("/."),
        _ => {}
    }
    let mut verb = Verb::ALL[rng.usize(..Verb::ALL.len())];
    let mode = Mode::new(rng.u16(..0o10000));
    if let Verb::Creates(asked) | Verb::MakesDirectory(asked) = &mut verb {
        *asked = mode;
    }
    Act { actor: "x".to_owned(), verb, path: path.into_bytes(), expectation: None }
}

/// The stage of a scene file, on a host whose settings are this machine's.
pub(crate) fn stage(text: &str) -> Stage {
    let source = SourceText::new("random.yaml", text);
    let mut slips = Slips::default();
    let nodes = yaml::parse(&source, &mut slips);
    let scene = read_scene(&nodes[0], &source, &Origin::Standard, &Disk, &mut slips);
    assert!(slips.is_empty(), "{text}\n{:?}", slips.iter().map(|slip| &slip.message).collect::<Vec<_>>());
    let mut scene = scene.unwrap();
    scene.host.settings = settings();
    prepare::stage(&scene)
}
