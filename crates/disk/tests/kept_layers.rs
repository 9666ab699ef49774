//! Layers that are kept as surveys: an image made of them is the image made of the layers themselves.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

mod fixtures;

use std::io::Write;

use mivask_disk::gathered::Gathered;
use mivask_disk::image::{Growing, Layer};
use mivask_disk::survey;
use tar::EntryType;

use fixtures::{DIR, FILE, Member, archive, listing};

const CONFIG: &[u8] =
    br#"{"architecture": "amd64", "os": "linux", "rootfs": {}, "config": {"User": "7101"}}"#;

fn layer(members: &[Member<'_>]) -> Layer {
    Layer::from_stream("layer", &mut archive(members).as_slice()).unwrap()
}

fn kept(layer: &Layer, key: &str) -> Option<Layer> {
    let mut bytes = Vec::new();
    if !layer.keep(&mut bytes, key).unwrap() {
        assert!(bytes.is_empty());
        return None;
    }
    assert!(Layer::kept(&mut bytes.as_slice(), "another", bytes.len() as u64).unwrap().is_none());
    Layer::kept(&mut bytes.as_slice(), key, bytes.len() as u64).unwrap()
}

fn image(layers: &[Layer]) -> Gathered {
    let mut growing = Growing::new("it", true);
    layers.iter().for_each(|layer| growing.add(layer.clone()).unwrap());
    growing.finish(CONFIG).unwrap()
}

/// Everything that is known of an image, as bytes.
fn recorded(gathered: &Gathered) -> Vec<u8> {
    let mut out = Vec::new();
    survey::record(&mut out, gathered, "it").unwrap();
    out
}

/// A layer of a few members at places that meet each other's: directories, files, links, whiteouts and further names.
fn made_up(random: &mut fastrand::Rng) -> Layer {
    const DIRS: [&str; 5] = ["", "a/", "a/b/", "c/", "lib/"];
    const NAMES: [&str; 4] = ["x", "y", "z", "b"];
    let mut members: Vec<(String, String, Member<'_>)> = Vec::new();
    for _ in 0..random.usize(1..9) {
        let dir = DIRS[random.usize(..DIRS.len())];
        let name = NAMES[random.usize(..NAMES.len())];
        let path = format!("{dir}{name}");
        let owner = (random.u64(0..3) * 1000, random.u64(0..3) * 1000);
        let mode = [0o644, 0o755, 0o600, 0o2770, 0o4755][random.usize(..5)];
        let plain = Member { owner, mode, ..FILE };
        let (path, link, member) = match random.u8(0..8) {
            0 => (format!("{path}/"), String::new(), Member { owner, mode, ..DIR }),
            1 => (format!("{dir}.wh.{name}"), String::new(), FILE),
            2 => (format!("{dir}.wh..wh..opq"), String::new(), FILE),
            3 => (path, "a/b".to_owned(), Member { kind: EntryType::Symlink, ..plain }),
            4 if !members.is_empty() => {
                let first = members[random.usize(..members.len())].0.clone();
                (path, first, Member { kind: EntryType::Link, ..plain })
            }
            5 => (path, String::new(), Member { kind: EntryType::Char, ..plain }),
            _ => (path, String::new(), Member { content: b"#!/bin/sh\n", ..plain }),
        };
        members.push((path, link, member));
    }
    let all: Vec<Member<'_>> =
        members.iter().map(|(path, link, member)| Member { path, link, ..*member }).collect();
    layer(&all)
}

#[test]
fn an_image_of_kept_layers_is_the_same_image() {
    let mut random = fastrand::Rng::with_seed(7101);
    let (mut same, mut unkept) = (0, 0);
    for round in 0..1500 {
        let layers: Vec<Layer> = (0..random.usize(1..4)).map(|_| made_up(&mut random)).collect();
        let again: Vec<Layer> = layers
            .iter()
            .map(|layer| {
                let kept = kept(layer, "sha256:x");
                unkept += usize::from(kept.is_none());
                kept.unwrap_or_else(|| layer.clone())
            })
            .collect();
        let (direct, through) = (image(&layers), image(&again));
        assert_eq!(listing(&direct.tree), listing(&through.tree), "round {round}");
        assert_eq!(recorded(&direct), recorded(&through), "round {round}");
        same += 1;
    }
    // Those that say a path twice, or lead through their own links, are read again each time.
    assert!((100..same).contains(&unkept), "{unkept} layers of {same} images were not kept");
}

#[test]
fn account_files_and_acls_come_with_a_layer() {
    let acl = b"user::rw-,user:7101:r--,group::r--,mask::r--,other::---";
    let first = layer(&[
        Member { path: "etc/passwd", content: b"root:x:0:0::/:\n", ..FILE },
        Member { path: "etc/group", content: b"root:x:0:\n", ..FILE },
        Member { path: "a", pax: &[("SCHILY.acl.access", acl)], ..FILE },
    ]);
    let second = layer(&[Member { path: "etc/.wh.group", ..FILE }]);
    let through = image(&[kept(&first, "1").unwrap(), kept(&second, "2").unwrap()]);
    let accounts = through.accounts.clone().unwrap();
    assert_eq!(accounts.passwd.as_deref(), Some(&b"root:x:0:0::/:\n"[..]));
    assert_eq!(accounts.group, None);
    assert_eq!(recorded(&through), recorded(&image(&[first, second])));
    assert!(through.tree.acl(fixtures::find(&through.tree, "a")).is_some());
}

#[test]
fn a_damaged_one_is_found_out() {
    let mut bytes = Vec::new();
    layer(&[Member { path: "a", ..FILE }]).keep(&mut bytes, "key").unwrap();
    for at in 0..bytes.len() {
        let mut damaged = bytes.clone();
        damaged[at] ^= 1;
        assert!(Layer::kept(&mut damaged.as_slice(), "key", bytes.len() as u64).is_err(), "byte {at}");
    }
    bytes.write_all(b"x").unwrap();
    assert!(Layer::kept(&mut bytes.as_slice(), "key", bytes.len() as u64).is_err());
}
