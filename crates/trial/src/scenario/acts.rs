//! Random acts.

use fastrand::Rng;
use mivask_core::acl::AclText;
use mivask_core::act::{Act, Node, Owner, Verb};
use mivask_core::mode::{FileKind, Mode};
use mivask_core::tree::Device;

use super::Scenario;

/// An act worth trying in `scenario`.
pub fn random_act(rng: &mut Rng, scenario: &Scenario) -> Act {
    let path = random_path(rng, scenario);
    let mut verb = Verb::ALL[rng.usize(..Verb::ALL.len())].clone();
    fill(rng, scenario, &mut verb);
    Act { actor: "x".to_owned(), verb, path, expectation: None }
}

fn random_path(rng: &mut Rng, scenario: &Scenario) -> Vec<u8> {
    let (mut path, directory) = scenario.paths[rng.usize(..scenario.paths.len())].clone();
    // Below a file there is nothing: now and then is enough to see that the kernel says so.
    let suffixes: &[&str] = if directory {
        &["/new", "/new", "/new", "/new", "/a", "/b", "/", "/../b", "/.", "", "", "", "", "", "", ""]
    } else {
        &["/new", "/", "/..", "2", "", "", "", "", "", "", "", "", "", "", "", "", "", "", "", ""]
    };
    path.push_str(suffixes[rng.usize(..suffixes.len())]);
    path.into_bytes()
}

/// Gives `verb` what it takes besides the path.
fn fill(rng: &mut Rng, scenario: &Scenario, verb: &mut Verb) {
    let mode = Mode::new(rng.u16(..0o10000));
    if let Verb::Creates(asked) | Verb::MakesDirectory(asked) | Verb::MakesFifo(asked) = verb {
        *asked = mode;
    } else if let Verb::MakesNode(node, asked) = verb {
        *asked = mode;
        *node = random_node(rng);
    } else if let Verb::Points(target) = verb {
        *target = random_path(rng, scenario);
        // The longest that every file system keeps.
        if rng.usize(..8) == 0 {
            target.resize(1023, b'x');
        }
    } else if let Verb::Links(new)
    | Verb::LinksTarget(new)
    | Verb::Renames(new)
    | Verb::RenamesNew(new)
    | Verb::Exchanges(new) = verb
    {
        *new = random_path(rng, scenario);
    } else if let Verb::SetsMode(change) = verb {
        let texts = ["g+s", "u+s", "g=u", "a+X", "o-rwx", "+w", "g+w,o=", "u=rwxs,go=rx", "+t"];
        let text = if rng.bool() { mode.to_string() } else { texts[rng.usize(..texts.len())].to_owned() };
        if let Ok(parsed) = text.parse() {
            *change = parsed;
        }
    } else if let Verb::SetsOwner(owner) | Verb::SetsLinkOwner(owner) = verb {
        let part = |rng: &mut Rng, ids: &[u32]| rng.bool().then(|| ids[rng.usize(..ids.len())]);
        *owner = Owner { uid: part(rng, &USERS), gid: part(rng, &GROUPS) };
    } else if let Verb::SetsGroup(gid) | Verb::SetsLinkGroup(gid) = verb {
        *gid = GROUPS[rng.usize(..GROUPS.len())];
    } else if let Verb::SetsAcl(acl) | Verb::SetsDefaultAcl(acl) = verb {
        *acl = random_acl(rng);
    } else if let Verb::ReadsTag(name) = verb {
        // Others may be there or not: no scene tells.
        let names: [&[u8]; 3] = [b"security.capability", b"odd.note", b"user."];
        *name = names[rng.usize(..names.len())].to_vec();
    } else if let Verb::Tags(name) = verb {
        let names: [&[u8]; 8] = [
            b"user.note",
            b"user.note",
            b"trusted.note",
            b"security.note",
            b"security.capability",
            b"system.note",
            b"odd.note",
            b"user.",
        ];
        *name = names[rng.usize(..names.len())].to_vec();
    }
}

/// Inside ids: those that disks hold, that some namespace has, and one no one has.
const USERS: [u32; 7] = [0, 8101, 8102, 101, 1, 400, 200_000];
const GROUPS: [u32; 7] = [0, 8200, 8300, 200, 40, 8900, 200_000];

fn random_node(rng: &mut Rng) -> Node {
    let device = |kind, major, minor| Node { kind, device: Device { major, minor } };
    match rng.usize(..4) {
        // What an overlay takes for a whiteout.
        3 => device(FileKind::CharDevice, 0, 0),
        0 => device(FileKind::CharDevice, 1, 3),
        1 => device(FileKind::BlockDevice, 7, 200),
        _ => device(FileKind::Socket, 0, 0),
    }
}

fn random_acl(rng: &mut Rng) -> AclText {
    let permissions = ["---", "r--", "rw-", "r-x", "rwx", "-wx"];
    let tags =
        ["user:", "group:", "other:", "mask:", "user:8101", "user:101", "group:8200", "group:200", "user:0"];
    let mut entries = Vec::new();
    for tag in tags {
        if rng.usize(..4) == 0 {
            entries.push(format!("{tag}:{}", permissions[rng.usize(..permissions.len())]));
        }
    }
    AclText::parse(&entries.join(",")).unwrap_or_default()
}
