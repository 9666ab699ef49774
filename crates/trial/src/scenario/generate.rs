//! Random small scenarios: a tree at `/`, another mounted in it, sometimes a third mount, and one actor.

use fastrand::Rng;
use mivask_core::ids::DiskOwner;

use super::{ActorPart, EntryPart, Kind, Maps, MountPart, Scenario, VolumePart};

const NAMES: [&str; 4] = ["a", "b", "c", "d"];
/// Ids on disks. An 8 is not an octal digit, so ids can be given from modes in the text.
const UIDS: [u32; 3] = [0, 8101, 8102];
const GIDS: [u32; 3] = [0, 8200, 8300];
/// The capabilities that scenarios give and take.
pub const CAPABILITIES: [&str; 8] =
    ["DAC_OVERRIDE", "DAC_READ_SEARCH", "FOWNER", "FSETID", "CHOWN", "MKNOD", "SETFCAP", "SYS_ADMIN"];

/// A user namespace with the ids inside that are worth being.
struct Namespace {
    maps: Maps,
    uids: &'static [u32],
    gids: &'static [u32],
}

const NAMESPACES: [Namespace; 4] = [
    // Every id is itself, yet capabilities do not count on the host.
    Namespace {
        maps: Maps { uids: &["0 0 70000"], gids: &["0 0 70000"] },
        uids: &[0, 8101, 8102, 8900],
        gids: &[0, 8200, 8300, 8900],
    },
    // Single ids, the host's root among those left out.
    Namespace {
        maps: Maps { uids: &["0 8101 1", "1 8102 1"], gids: &["0 8200 1", "8300 8300 1"] },
        uids: &[0, 1],
        gids: &[0, 8300],
    },
    // A range that ends before one of the groups.
    Namespace {
        maps: Maps { uids: &["0 8000 500"], gids: &["0 8000 250"] },
        uids: &[0, 101, 102, 400],
        gids: &[0, 200, 40],
    },
    // What a remapped daemon does.
    Namespace {
        maps: Maps { uids: &["0 100000 65536"], gids: &["0 100000 65536"] },
        uids: &[0, 8101, 8102, 8900],
        gids: &[0, 8200, 8300, 8900],
    },
];

const MOUNT_MAPS: [Maps; 4] = [
    Maps { uids: &["0 8101 1", "8101 0 1"], gids: &["0 8200 1", "8200 0 1"] },
    Maps { uids: &["0 0 70000"], gids: &["0 0 70000"] },
    Maps { uids: &["0 100000 65536"], gids: &["0 100000 65536"] },
    Maps { uids: &["0 0 1", "8101 8102 1", "8102 8101 1"], gids: &[] },
];

/// Where in an overlay something is.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Layer {
    Lower,
    Upper,
    Both,
    /// In the lower one, and nothing can have been added above.
    Locked,
}

struct Generator<'r> {
    rng: &'r mut Rng,
    kind: Kind,
    entries: Vec<EntryPart>,
    /// What links point at.
    targets: Vec<String>,
}

/// A scenario whose main source is of `kind`.
pub fn generate(rng: &mut Rng, kind: Kind) -> Scenario {
    let mut generator = Generator { rng, kind, entries: Vec::new(), targets: vec!["/".to_owned()] };
    let main = generator.volume("main");
    let side = generator.volume("side");
    let mounts = generator.mounts(&main, &side);
    let actor = generator.actor();
    let volumes = vec![main, side];
    let paths = paths(&volumes, &mounts);
    Scenario { volumes, mounts, actor, paths, hidden: Vec::new() }
}

/// What can be reached through each mount, covered or not.
fn paths(volumes: &[VolumePart], mounts: &[MountPart]) -> Vec<(String, bool)> {
    let mut paths = Vec::new();
    for mount in mounts {
        let Some(volume) = volumes.iter().find(|volume| volume.name == mount.volume) else { continue };
        let part = mount.sub_path.as_ref().map_or_else(String::new, |path| format!("/{path}"));
        let at = mount.at.trim_end_matches('/');
        for entry in &volume.entries {
            if let Some(below) = entry.path.strip_prefix(&part) {
                let path = format!("{at}{}", below.trim_end_matches('/'));
                let path = if path.is_empty() { "/".to_owned() } else { path };
                paths.push((path, entry.kind == "dir"));
            }
        }
    }
    paths
}

impl Generator<'_> {
    fn pick<T: Copy>(&mut self, choices: &[T]) -> T {
        choices[self.rng.usize(..choices.len())]
    }

    fn one_in(&mut self, n: usize) -> bool {
        self.rng.usize(..n) == 0
    }

    fn some<T: Copy>(&mut self, choices: &[T], one_in: usize) -> Vec<T> {
        let mut chosen = Vec::new();
        for choice in choices {
            if self.one_in(one_in) {
                chosen.push(*choice);
            }
        }
        chosen
    }

    fn volume(&mut self, name: &'static str) -> VolumePart {
        self.entry("/", 0, Layer::Both);
        let grpid = matches!(self.kind, Kind::Ext4 | Kind::Xfs) && self.one_in(4);
        let options = if grpid { vec!["grpid"] } else { Vec::new() };
        let read_only = name == "side" && self.kind == Kind::Tmpfs && self.one_in(6);
        let entries = std::mem::take(&mut self.entries);
        VolumePart { name, kind: self.kind, options, read_only, listed: true, entries }
    }

    fn mounts(&mut self, main: &VolumePart, side: &VolumePart) -> Vec<MountPart> {
        let root = MountPart {
            volume: "main",
            at: "/".to_owned(),
            options: Vec::new(),
            sub_path: None,
            id_map: self.id_map(),
        };
        let mut mounts = vec![root];
        let directories = |volume: &VolumePart| -> Vec<String> {
            let listed = volume.entries.iter().filter(|entry| entry.kind == "dir" && entry.path.len() == 2);
            listed.map(|entry| entry.path.clone()).collect()
        };
        let points = directories(main);
        let Some(at) = points.first() else { return mounts };
        self.mount(&mut mounts, "side", at, None);
        // The same source once more: a further mount of it is another mount all the same.
        if let Some(second) = points.get(1)
            && self.one_in(3)
        {
            let volume = self.pick(&["main", "side"]);
            let from = if volume == "main" { main } else { side };
            let part = match directories(from).into_iter().next() {
                Some(part) if self.one_in(2) => Some(part),
                Some(_) | None => None,
            };
            self.mount(&mut mounts, volume, second, part);
        }
        if let Some(inner) = directories(side).first()
            && self.one_in(4)
        {
            self.mount(&mut mounts, "main", &format!("{at}{inner}"), None);
        }
        mounts
    }

    fn mount(&mut self, mounts: &mut Vec<MountPart>, volume: &'static str, at: &str, part: Option<String>) {
        let options = self.some(&["ro", "noexec", "nodev", "nosymfollow", "nosuid"], 5);
        let sub_path = part.map(|path| path.trim_start_matches('/').to_owned());
        mounts.push(MountPart { volume, at: at.to_owned(), options, sub_path, id_map: self.id_map() });
    }

    /// An id map now and then; overlays take none.
    fn id_map(&mut self) -> Option<&'static Maps> {
        let wanted = self.kind != Kind::Overlay && self.one_in(5);
        wanted.then(|| &MOUNT_MAPS[self.rng.usize(..MOUNT_MAPS.len())])
    }

    fn actor(&mut self) -> ActorPart {
        let namespace =
            if self.one_in(3) { Some(&NAMESPACES[self.rng.usize(..NAMESPACES.len())]) } else { None };
        let (uids, gids) = namespace
            .map_or((&[0, 8101, 8102, 8900][..], &[0, 8200, 8300, 8900][..]), |known| {
                (known.uids, known.gids)
            });
        let held = self.some(&CAPABILITIES, 4);
        ActorPart {
            uid: self.pick(uids),
            gid: self.pick(gids),
            groups: self.some(gids, 3),
            umask: self.pick(&["0022", "0077", "0002", "0000", "0027"]),
            no_new_privileges: self.one_in(4),
            effective: if self.one_in(6) { None } else { Some(held) },
            bounding: if self.one_in(3) { Some(self.some(&CAPABILITIES, 2)) } else { None },
            namespace: namespace.map(|known| &known.maps),
        }
    }

    fn mode(&mut self, directory: bool) -> u16 {
        // Closed directories hide everything below them, so most are open to someone.
        let classes: &[u16] =
            if directory { &[7, 7, 7, 5, 5, 3, 1, 4, 6, 0] } else { &[6, 6, 4, 7, 5, 0, 2, 1, 3] };
        let nine = (self.pick(classes) << 6) | (self.pick(classes) << 3) | self.pick(classes);
        let special = if self.one_in(3) { self.rng.u16(..8) << 9 } else { 0 };
        special | nine
    }

    fn acl(&mut self) -> String {
        let permissions = ["---", "r--", "rw-", "r-x", "rwx", "-wx", "--x"];
        let mut entries = vec![format!("mask::{}", self.pick(&permissions))];
        for named in ["user:8101", "user:8102", "group:8200", "group:8300"] {
            if self.rng.bool() {
                entries.push(format!("{named}:{}", self.pick(&permissions)));
            }
        }
        entries.join(",")
    }

    fn target(&mut self) -> String {
        match self.rng.usize(..4) {
            0 => self.pick(&NAMES).to_owned(),
            1 => format!("../{}", self.pick(&NAMES)),
            2 => format!("/{}/{}", self.pick(&NAMES), self.pick(&NAMES)),
            _ => self.targets[self.rng.usize(..self.targets.len())].clone(),
        }
    }

    fn entry(&mut self, path: &str, depth: usize, above: Layer) {
        let directory = depth == 0 || (depth < 3 && self.one_in(2));
        let kind = match self.rng.usize(..20) {
            _ if directory => "dir",
            0..3 => "link",
            3 => "fifo",
            4 => "socket",
            5 => "char",
            _ => "file",
        };
        let owner = DiskOwner::new(self.pick(&UIDS), self.pick(&GIDS));
        let mode = if depth == 0 { 0o755 } else { self.mode(directory) };
        let layer = self.layer(above, directory, depth);
        let mut facts = self.facts(kind, depth);
        let locked = facts.iter().any(|(key, _)| *key == "flags");
        if self.kind == Kind::Overlay {
            let word = match layer {
                Layer::Lower | Layer::Locked => "lower",
                Layer::Upper => "upper",
                Layer::Both => "both",
            };
            facts.push(("layer", word.to_owned()));
        }
        let mode = (kind != "link").then_some(mode);
        self.entries.push(EntryPart { path: path.to_owned(), kind, owner: Some(owner), mode, facts });
        self.targets.push(path.to_owned());
        if directory {
            for name in NAMES {
                if depth == 0 || self.one_in(2) {
                    // Nothing can have been added to a locked directory of the image.
                    let below = if locked && layer == Layer::Lower { Layer::Locked } else { layer };
                    self.entry(&format!("{}/{name}", path.trim_end_matches('/')), depth + 1, below);
                }
            }
        } else if kind == "file" && self.one_in(12) {
            self.second_name(path, owner, layer);
        }
    }

    /// A further name of the file at `path`, beside it.
    fn second_name(&mut self, path: &str, owner: DiskOwner, layer: Layer) {
        // A file that another layer holds too breaks its links when it is copied up.
        if self.kind == Kind::Overlay && layer != Layer::Upper {
            return;
        }
        let second = format!("{path}2");
        let facts = vec![("same-file-as", path.to_owned())];
        self.entries.push(EntryPart {
            path: second.clone(),
            kind: "file",
            owner: Some(owner),
            mode: None,
            facts,
        });
        self.targets.push(second);
    }

    fn layer(&mut self, above: Layer, directory: bool, depth: usize) -> Layer {
        match above {
            _ if depth == 0 => Layer::Both,
            Layer::Upper => Layer::Upper,
            Layer::Locked => Layer::Locked,
            Layer::Lower | Layer::Both if directory => self.pick(&[Layer::Lower, Layer::Upper, Layer::Both]),
            Layer::Lower | Layer::Both => self.pick(&[Layer::Lower, Layer::Upper]),
        }
    }

    fn facts(&mut self, kind: &str, depth: usize) -> Vec<(&'static str, String)> {
        let mut facts = Vec::new();
        match kind {
            "link" => {
                facts.push(("target", self.target()));
                return facts;
            }
            "char" => facts.push(("device", "'1:3'".to_owned())),
            "file" => {
                let contents = ["program", "program", "data", "empty", "'#!/a'", "'#!/b/c'"];
                facts.push(("content", self.pick(&contents).to_owned()));
                if self.one_in(8) {
                    let caps = [
                        "CHOWN=ep",
                        "'FOWNER,SYS_ADMIN=ep'",
                        "DAC_OVERRIDE=p",
                        "'SETFCAP,CHOWN=eip'",
                        "MKNOD=i",
                    ];
                    facts.push(("capabilities", self.pick(&caps).to_owned()));
                }
            }
            _ => {}
        }
        if self.kind != Kind::Squashfs && depth > 0 && self.one_in(4) {
            facts.push(("acl", format!("'{}'", self.acl())));
        }
        if self.kind != Kind::Squashfs && kind == "dir" && self.one_in(5) {
            facts.push(("default-acl", format!("'user::rwx,group::r-x,other::r--,{}'", self.acl())));
        }
        if !self.kind.is_image() && depth > 0 && matches!(kind, "dir" | "file") && self.one_in(12) {
            facts.push(("flags", format!("[{}]", self.pick(&["immutable", "append-only"]))));
        }
        facts
    }
}
